"""A whole record as one JSON document: what CSV cannot carry goes with it (study, arms, machine, answers)."""

from __future__ import annotations

import json
import math
from dataclasses import asdict
from typing import Any

import numpy as np

from bystander.design import (
    Record,
    RecordHead,
    Trials,
    arm_state_from,
    measure_from,
    plain,
    study_from,
)
from bystander.errors import DataError

__all__ = ["read_record_json", "record_json"]

_FORMAT = "bystander.record"
_VERSION = 1
_INTEGERS = ("workload", "arm", "block", "order", "status", "answers", "details")


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
        "machine": dict(head.machine),
        "study": plain(head.study),
        "arms": [plain(arm) for arm in head.arms],
        "measures": [asdict(measure) for measure in head.measures],
        "trials": {name: getattr(trials, name).tolist() for name in _INTEGERS},
        "samples": [
            {"trial": row, "measure": name, "values": values.tolist()} for (row, name), values in record.samples.items()
        ],
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
    return np.array([math.nan if value is None else value for value in values], dtype=np.float64)


def read_record_json(text: str, file: str) -> Record:
    """Return the record of a document that `record_json` wrote; raise DataError when it is none."""
    try:
        document = json.loads(text)
    except ValueError as error:
        raise DataError(f"{file}: it is not valid JSON: {error}") from None
    if not isinstance(document, dict) or document.get("format") != _FORMAT:
        raise DataError(f'{file}: it is no record; its "format" must be "{_FORMAT}"')
    if document.get("version") != _VERSION:
        raise DataError(f"{file}: version {document.get('version')} is not known; this Bystander reads {_VERSION}")
    try:
        return _record(document)
    except (KeyError, TypeError, ValueError, AttributeError, IndexError) as error:
        reason = f"{error} is missing" if isinstance(error, KeyError) else str(error)
        raise DataError(f"{file}: the record is damaged: {reason}") from None


def _record(document: dict[str, Any]) -> Record:
    columns, measures = document["trials"], tuple(measure_from(m) for m in document["measures"])
    study = study_from(document["study"])
    readings = [_floats(columns["readings"][measure.name]) for measure in measures]
    integers = {name: np.array(columns[name], dtype=np.int64) for name in _INTEGERS}
    trials = Trials(
        limit_s=_floats(columns["limit_s"]),
        started_s=_floats(columns["started_s"]),
        readings=np.column_stack(readings) if readings else np.empty((0, 0)),
        **integers,
    )
    count = len(trials)
    if any(column.size != count for column in (*integers.values(), trials.limit_s, trials.started_s, *readings)):
        raise ValueError("its columns are not of one length")
    if count and not (
        0 <= trials.workload.min() <= trials.workload.max() < len(study.workloads)
        and 0 <= trials.arm.min() <= trials.arm.max() < len(study.arms)
    ):
        raise ValueError("a trial names a workload or arm that is not in the study")
    head = RecordHead(
        uuid=str(document["uuid"]),
        name=str(document["name"]),
        origin=str(document["origin"]),
        state=str(document["state"]),
        started_wall_s=float(document["started_wall_s"]),
        study=study,
        study_folder=str(document["study_folder"]),
        arms=tuple(arm_state_from(arm) for arm in document["arms"]),
        workload_keys=(),
        measures=measures,
        machine=dict(document["machine"]),
        version=str(document["program_version"]),
        notes=tuple(document["notes"]),
    )
    samples = {(int(s["trial"]), str(s["measure"])): _floats(s["values"]) for s in document["samples"]}
    excerpts = {int(row): str(text) for row, text in document["excerpts"].items()}
    return Record(head, trials, samples, excerpts)
