"""A whole record as one JSON document: what CSV cannot carry goes with it (study, arms, machine, answers)."""

from __future__ import annotations

import json
import math
from dataclasses import asdict
from typing import Any

import numpy as np

from bystander.design import (
    STOPPINGS,
    ArmState,
    LookTaken,
    Measure,
    Record,
    RecordHead,
    Status,
    Study,
    Trials,
    from_plain,
    plain,
    renamed,
)
from bystander.errors import DataError
from bystander.exchange.timeline_table import timeline_of, timeline_table

__all__ = ["read_record_json", "record_json"]

_FORMAT = "bystander.record"
_VERSION = 1
_INTEGERS = ("workload", "arm", "block", "order", "status", "answers", "details", "machine")


def record_json(record: Record) -> str:
    """Return the document; readings stand in one list per measure, in SI units, null where none was read."""
    head, trials = record.head, record.trials
    document: dict[str, Any] = {
        "format": _FORMAT,
        "version": _VERSION,
        "uuid": head.uuid,
        "name": head.name,
        "origin": head.origin,
        "state": head.state,
        "started_wall_s": head.started_wall_s,
        "program_version": head.version,
        "notes": list(head.notes),
        "study_folder": head.study_folder,
        "study_file": head.study_file,
        "machine": dict(head.machine),
        "study": plain(head.study),
        "arms": [plain(arm) for arm in head.arms],
        "measures": [asdict(measure) for measure in head.measures],
        "trials": {name: getattr(trials, name).tolist() for name in _INTEGERS},
        "samples": [
            {"trial": row, "measure": name, "values": values.tolist()} for (row, name), values in record.samples.items()
        ],
        "told": [
            {"trial": row, **record.told.get(row, {}), "phases": timeline_table(line)}
            for row, line in record.timelines.items()
        ],
        "machine_states": [dict(state) for state in record.machine_states],
        "looks": [asdict(look) for look in record.looks],
        "excerpts": {str(row): text for row, text in record.excerpts.items()},
    }
    document["trials"]["limit_s"] = _nulled(trials.limit_s)
    document["trials"]["started_s"] = _nulled(trials.started_s)
    document["trials"]["readings"] = {
        measure.name: _nulled(trials.readings[:, j]) for j, measure in enumerate(head.measures)
    }
    lines = [f'"{key}": {json.dumps(value, ensure_ascii=False)}' for key, value in document.items()]
    return "{\n" + ",\n".join(lines) + "\n}\n"


def _nulled(values: Any) -> list[float | None]:
    return [None if math.isnan(value) else value for value in values.tolist()]


def _floats(values: list[float | None]) -> Any:
    column = np.array([math.nan if value is None else value for value in values], dtype=np.float64)
    if np.isinf(column).any():
        raise ValueError("a reading is beyond all numbers")
    return column


def _refused(word: str) -> None:
    raise ValueError(f"{word} is no number in JSON")


def read_record_json(text: str, file: str) -> Record:
    """Return the record of a document that `record_json` wrote; raise DataError when it is none."""
    try:
        document = json.loads(text, parse_constant=_refused)
    except (ValueError, RecursionError) as error:
        raise DataError(f"{file}: it is not valid JSON: {error}") from None
    if not isinstance(document, dict) or document.get("format") != _FORMAT:
        raise DataError(f'{file}: it is no record; its "format" must be "{_FORMAT}"')
    if document.get("version") != _VERSION:
        raise DataError(f"{file}: version {document.get('version')} is not known; this Bystander reads {_VERSION}")
    try:
        return _record(document)
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError) as error:
        reason = f"{error} is missing" if isinstance(error, KeyError) else str(error)
        raise DataError(f"{file}: the record is damaged: {reason}") from None


def _record(document: dict[str, Any]) -> Record:
    columns, measures = document["trials"], tuple(from_plain(Measure, m, "measures") for m in document["measures"])
    head = _head(document, measures)
    readings = [_floats(columns["readings"][measure.name]) for measure in measures]
    columns.setdefault("machine", [0] * len(columns["workload"]))  # documents of before did not tell it
    integers = {name: np.array(columns[name], dtype=np.int64) for name in _INTEGERS}
    trials = Trials(
        limit_s=_floats(columns["limit_s"]),
        started_s=_floats(columns["started_s"]),
        readings=np.column_stack(readings) if readings else np.empty((0, 0)),
        **integers,
    )
    count = len(trials)
    if any(column.shape != (count,) for column in (*integers.values(), trials.limit_s, trials.started_s, *readings)):
        raise ValueError("its columns are not of one length")
    for name, column, most in (
        ("workload", trials.workload, len(head.study.workloads)),
        ("arm", trials.arm, len(head.study.arms)),
        ("status", trials.status, len(Status)),
    ):
        if count and not 0 <= column.min() <= column.max() < most:
            raise ValueError(f"trials.{name} holds a number that stands for nothing")
    places = np.stack([trials.workload, trials.arm, trials.block])[:, trials.block >= 0]
    if np.unique(places, axis=1).shape[1] < places.shape[1]:
        raise ValueError("an arm has two trials in one block")
    samples = {(int(s["trial"]), str(s["measure"])): _floats(s["values"]) for s in document["samples"]}
    excerpts = {int(row): str(text) for row, text in document["excerpts"].items()}
    told = {int(one["trial"]): one for one in document.get("told", [])}
    lines = {row: timeline_of(one["phases"]) for row, one in told.items()}
    summaries = {row: _summary(one, len(lines[row])) for row, one in told.items()}
    if any(not 0 <= row < count for row in (*told, *(row for row, _ in samples))):
        raise ValueError("told or samples name a trial that is not there")
    states = document.get("machine_states", [])
    if not isinstance(states, list) or not all(isinstance(state, dict) for state in states):
        raise ValueError("machine_states is no list of tables")
    looks = tuple(from_plain(LookTaken, look, "looks") for look in document.get("looks", []))
    return Record(head, trials, samples, excerpts, states, summaries, lines, looks)


def _summary(one: dict[str, Any], instances: int) -> dict[str, Any]:
    """Return what is kept beside the phases of a trial, with every value of its type."""
    labels = {
        str(phase): {str(label): float(seconds) for label, seconds in by_label.items()}
        for phase, by_label in one.get("labels", {}).items()
    }
    problems = {str(problem): int(often) for problem, often in one.get("problems", {}).items()}
    return {"problems": problems, "labels": labels, "instances": instances}


def _head(document: dict[str, Any], measures: tuple[Measure, ...]) -> RecordHead:
    study = renamed(from_plain(Study, document["study"], "study"))
    if not (
        0 < study.margin <= 1
        and 0 < study.risk <= 0.5
        and study.blocks > 0
        and study.arms
        and study.workloads
        and study.stopping in STOPPINGS
    ):
        raise ValueError("study: margin, risk, blocks, arms or workloads are out of range")
    if not measures or not isinstance(document["machine"], dict):
        raise ValueError("measures or machine is empty")
    for key in ("uuid", "name", "origin", "state", "study_folder", "program_version"):
        if not isinstance(document[key], str):
            raise ValueError(f"{key} is of the wrong type")
    return RecordHead(
        uuid=document["uuid"],
        name=document["name"],
        origin=document["origin"],
        state=document["state"],
        started_wall_s=min(float(document["started_wall_s"]), 1e11),
        study=study,
        study_folder=document["study_folder"],
        arms=tuple(from_plain(ArmState, arm, "arms") for arm in document["arms"]),
        workload_keys=(),
        measures=measures,
        machine=document["machine"],
        version=document["program_version"],
        notes=tuple(str(note) for note in document["notes"]),
        study_file=str(document.get("study_file", "")),
    )
