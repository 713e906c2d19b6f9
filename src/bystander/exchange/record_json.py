"""A whole record as one JSON document: what CSV cannot carry goes with it (study, arms, machines, blocks, answers)."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Mapping, Sequence
from typing import Any, TypeVar

import numpy as np

from bystander.design import (
    ORDERS,
    TIMED,
    ArmState,
    BlockHead,
    Evidence,
    LookTaken,
    MachineFacts,
    MachineState,
    Measure,
    Origin,
    Record,
    RecordHead,
    Run,
    State,
    TrialColumns,
    Trials,
    Whose,
    from_plain,
    is_part_of_search,
    plain,
    refuse_strays,
    study_from_plain,
)
from bystander.errors import DataError
from bystander.exchange.evidence_json import evidence_of, evidence_of_told, evidence_table, whole, with_packet
from bystander.exchange.written.json_text import json_text

__all__ = ["RECORD_FORMAT", "json_document", "read_record_json", "record_json"]

RECORD_FORMAT = "bystander.record"
_VERSION = 2
_VERSIONS = (1, 2)
_MOST, _LONGEST = 2**63, 20  # what 64 bits hold, and its digits with a sign
_LONG_NUMBER, _HALF = re.compile(r"\d{19}"), re.compile(r"\\u[dD][89a-fA-F]")
_INTEGERS = ("workload", "arm", "block", "order", "status", "answers", "details", "machine")


def record_json(record: Record) -> str:
    """Return the document; readings stand in one list per measure, in SI units, null where none was read."""
    head = record.head
    document: dict[str, Any] = {
        "format": RECORD_FORMAT,
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
        "machine": head.machine.known,
        "machines": [machine.known for machine in head.machines],
        "workload_keys": list(head.workload_keys),
        "study": plain(head.study),
        "arms": [plain(arm) for arm in head.arms],
        "measures": [plain(measure) for measure in head.measures],
        "runs": [plain(run) for run in head.runs],
        "blocks": [plain(block) for block in record.blocks],
        "trials": _written(record.trials, head.measures),
        "samples": [
            {"trial": row, "measure": name, "values": values.tolist()} for (row, name), values in record.samples.items()
        ],
        "evidence": [
            *(
                {"trial": row, **evidence_table(packet)}
                for row, packets in record.evidence.items()
                for packet in packets
                if packet.payload
            ),
            *(
                {"run": whose.run, "workload": whose.workload, "arm": whose.arm, **evidence_table(packet)}
                for whose, packets in record.of_runs.items()
                for packet in packets
                if packet.payload
            ),
        ],
        "machine_states": [state.known for state in record.machine_states],
        "looks": [plain(look) for look in record.looks],
        "excerpts": {str(row): text for row, text in record.excerpts.items()},
        "of_search": [
            {"run": number, **_written(columns, head.measures)} for number, columns in record.of_search.items()
        ],
    }
    lines = [f'"{key}": {json_text(value)}' for key, value in document.items()]
    return "{\n" + ",\n".join(lines) + "\n}\n"


def _written(trials: TrialColumns, measures: Sequence[Measure]) -> dict[str, Any]:
    """Return trials column by column."""
    return {
        **{name: getattr(trials, name).tolist() for name in _INTEGERS},
        "limit_s": _nulled(trials.limit_s),
        "started_s": _nulled(trials.started_s),
        "readings": {measure.name: _nulled(trials.readings[:, j]) for j, measure in enumerate(measures)},
    }


def _nulled(values: Any) -> list[float | None]:
    return [None if math.isnan(value) else value for value in values.tolist()]


def _floats(values: list[float | None]) -> Any:
    column = np.array([math.nan if value is None else value for value in values], dtype=np.float64)
    if np.isinf(column).any():
        raise ValueError("a reading is beyond all numbers")
    return column


def _refused(word: str) -> None:
    raise ValueError(f"{word} is no number in JSON")


def _within_64_bits(digits: str) -> int:
    number = int(digits) if len(digits) <= _LONGEST else _MOST
    if not -_MOST <= number < _MOST:
        raise ValueError("a whole number needs more than 64 bits")
    return number


def json_document(text: str, file: str) -> dict[str, Any]:
    """Return the table of a document that names its format; raise DataError when it is none."""
    try:
        # Each of millions of numbers is looked at only where there is one so long.
        parse_int = _within_64_bits if _LONG_NUMBER.search(text) else None
        document = json.loads(text, parse_constant=_refused, parse_int=parse_int)
        if _HALF.search(text):
            json.dumps(document, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        raise DataError(f"{file}: a text in it holds half a character, which is no Unicode") from None
    except (ValueError, RecursionError) as error:
        raise DataError(f"{file}: it is not valid JSON: {error}") from None
    if not isinstance(document, dict):
        raise DataError(f'{file}: it is no record; its "format" must be "{RECORD_FORMAT}"')
    return document


def read_record_json(text: str, file: str) -> Record:
    """Return the record of a document that `record_json` wrote, now or before; raise DataError when it is none."""
    document = json_document(text, file)
    if document.get("format") != RECORD_FORMAT:
        raise DataError(f'{file}: it is no record; its "format" must be "{RECORD_FORMAT}"')
    if document.get("version") not in _VERSIONS:
        known = " and ".join(map(str, _VERSIONS))
        raise DataError(f"{file}: version {document.get('version')} is not known; this Bystander reads {known}")
    try:
        return _record(document)
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError) as error:
        reason = f"{error} is missing" if isinstance(error, KeyError) else str(error)
        raise DataError(f"{file}: the record is damaged: {reason}") from None


def _record(document: dict[str, Any]) -> Record:
    columns, measures = document["trials"], tuple(from_plain(Measure, m, "measures") for m in document["measures"])
    head = _head(document, measures)
    columns.setdefault("machine", [0] * len(columns["workload"]))  # documents of before did not tell it
    trials = _columns(Trials, columns, head)
    count = len(trials)
    samples = {(int(s["trial"]), str(s["measure"])): _floats(s["values"]) for s in document["samples"]}
    excerpts = {int(row): str(text) for row, text in document["excerpts"].items()}
    evidence, of_runs = _evidence(document, head)
    if any(not 0 <= row < count for row in (*evidence, *(row for row, _ in samples))):
        raise ValueError("evidence or samples name a trial that is not there")
    states = document.get("machine_states", [])
    if not isinstance(states, list) or not all(isinstance(state, dict) for state in states):
        raise ValueError("machine_states is no list of tables")
    looks = tuple(from_plain(LookTaken, look, "looks") for look in document.get("looks", []))
    blocks = tuple(from_plain(BlockHead, block, "blocks") for block in document.get("blocks", []))
    _check_blocks(head, blocks)
    of_search = {whole(one["run"]): _columns(TrialColumns, one, head) for one in document.get("of_search", [])}
    _check_search(head, blocks, of_search)
    return Record(
        head, trials, samples, excerpts, [MachineState.of(state) for state in states], evidence, looks, blocks, of_runs,
        of_search,
    )  # fmt: skip


Columns = TypeVar("Columns", bound=TrialColumns)


def _columns(kind: type[Columns], table: Mapping[str, Any], head: RecordHead) -> Columns:
    """Return the trials of a table of columns; raise ValueError where they do not fit the record or each other."""
    integers = {name: np.array(table[name], dtype=np.int64) for name in _INTEGERS}
    readings = [_floats(table["readings"][measure.name]) for measure in head.measures]
    limit_s, started_s = _floats(table["limit_s"]), _floats(table["started_s"])
    if any(column.shape != limit_s.shape for column in (*integers.values(), started_s, *readings)):
        raise ValueError("its columns are not of one length")
    trials = kind(limit_s=limit_s, started_s=started_s, readings=np.column_stack(readings), **integers)
    refuse_strays(head, trials)
    places = np.stack([trials.workload, trials.arm, trials.block])[:, trials.block >= 0]
    if np.unique(places, axis=1).shape[1] < places.shape[1]:
        raise ValueError("an arm has two trials in one block")
    return trials


def _check_search(head: RecordHead, blocks: Sequence[BlockHead], of_search: Mapping[int, TrialColumns]) -> None:
    """Raise ValueError where trials of a search are of a run or block that is not there."""
    parts = {run.number for run in head.runs if is_part_of_search(run)}
    there = {(block.run, block.workload, block.number) for block in blocks}
    for number, trials in of_search.items():
        places = zip(trials.workload.tolist(), trials.block.tolist(), strict=True)
        if number not in parts or any((number, *place) not in there for place in places):
            raise ValueError("of_search names a run or block that is not there")


def _check_blocks(head: RecordHead, blocks: tuple[BlockHead, ...]) -> None:
    runs = {run.number for run in head.runs}
    for block in blocks:
        known = block.run in runs and 0 <= block.workload < len(head.study.workloads)
        if not known or not 0 <= block.machine < len(head.machines) or block.number < 0:
            raise ValueError("blocks name a run, workload or machine that is not there")
    if len({(block.run, block.workload, block.number) for block in blocks}) < len(blocks):
        raise ValueError("a block is whole twice")


def _evidence(
    document: dict[str, Any], head: RecordHead
) -> tuple[dict[int, tuple[Evidence, ...]], dict[Whose, tuple[Evidence, ...]]]:
    """Return the evidence of trials, and that of no single trial; documents of before had one kind, `told`."""
    of_trials: dict[int, tuple[Evidence, ...]] = {}
    of_runs: dict[Whose, tuple[Evidence, ...]] = {}
    for one in document.get("told", []):
        of_trials[whole(one["trial"])] = (evidence_of_told(one),)
    for one in document.get("evidence", []):
        packet = evidence_of(one)
        if "trial" in one:
            row = whole(one["trial"])
            of_trials[row] = with_packet(of_trials.get(row, ()), packet)
        else:
            whose = Whose(whole(one["run"]), whole(one["workload"]), whole(one["arm"]))
            known = 0 <= whose.workload < len(head.study.workloads) and 0 <= whose.arm < len(head.study.arms)
            if not known or whose.run not in {run.number for run in head.runs}:
                raise ValueError("evidence names a run, workload or arm that is not there")
            of_runs[whose] = with_packet(of_runs.get(whose, ()), packet)
    return of_trials, of_runs


def _machines(document: dict[str, Any]) -> tuple[MachineFacts, ...]:
    """Return the machines; documents of before told the first one only, though trials may name others."""
    machines = document.get("machines", [document["machine"]])
    if not isinstance(machines, list) or not all(isinstance(facts, Mapping) for facts in machines) or not machines:
        raise ValueError("machines is no list of tables")
    most = max(document["trials"].get("machine") or [0])
    if not 0 <= most < 10_000:
        raise ValueError("trials.machine holds a number that stands for nothing")
    return (*(MachineFacts.of(facts) for facts in machines), *[MachineFacts()] * (most + 1 - len(machines)))


def _head(document: dict[str, Any], measures: tuple[Measure, ...]) -> RecordHead:
    study = study_from_plain(document["study"], "study")
    if not measures or not isinstance(document["machine"], dict):
        raise ValueError("measures or machine is empty")
    for key in ("uuid", "name", "origin", "state", "study_folder", "program_version"):
        if not isinstance(document[key], str):
            raise ValueError(f"{key} is of the wrong type")
    machines = _machines(document)
    runs = tuple(from_plain(Run, run, "runs") for run in document.get("runs", []))
    if len({run.number for run in runs}) < len(runs) or any(not 0 <= run.machine < len(machines) for run in runs):
        raise ValueError("runs have one number twice, or name a machine that is not there")
    if runs and [run.purpose for run in runs].count(TIMED) != 1:
        raise ValueError("not one of its runs is the timed one")
    if any(run.order not in ORDERS for run in runs):
        raise ValueError(f"runs.order is none of {', '.join(ORDERS)}")
    return RecordHead(
        uuid=document["uuid"],
        name=document["name"],
        origin=Origin(document["origin"]),
        state=State(document["state"]),
        started_wall_s=min(float(document["started_wall_s"]), 1e11),
        study=study,
        study_folder=document["study_folder"],
        arms=tuple(from_plain(ArmState, arm, "arms") for arm in document["arms"]),
        workload_keys=_keys(document, len(study.workloads)),
        measures=measures,
        machines=machines,
        version=document["program_version"],
        notes=tuple(str(note) for note in document["notes"]),
        study_file=str(document.get("study_file", "")),
        runs=runs or (_only_run(document, study.seed or 0),),
    )


def _only_run(document: dict[str, Any], seed: int) -> Run:
    """Return the run that a document of before was, whose arms were ordered by one permutation a block."""
    began = min(float(document["started_wall_s"]), 1e11)
    return Run(seed=seed, order="permutation", began_wall_s=began, state=State(document["state"]))


def _keys(document: dict[str, Any], workloads: int) -> tuple[str, ...]:
    """Return the keys of workloads; documents of before did not tell them, and their studies told all."""
    keys = document.get("workload_keys", [])
    if not isinstance(keys, list) or not all(isinstance(key, str) for key in keys) or len(keys) not in (0, workloads):
        raise ValueError("workload_keys is no list of one text a workload")
    return tuple(keys)
