"""Writing a record, so that a trial that ended is on disk before the next begins."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import Connection, bindparam, case, func, literal, select

from bystander.archive.file.engine import atomic
from bystander.archive.file.evidence_files import LARGE_BYTES, EvidenceFiles
from bystander.archive.file.prepared import Prepared, insert
from bystander.archive.tables.schema import tables
from bystander.design import (
    BlockHead,
    BlockRun,
    Evidence,
    LookTaken,
    MachineFacts,
    MachineState,
    Measure,
    PlannedBlock,
    PlannedTrial,
    RecordHead,
    Run,
    State,
    Status,
    TrialArray,
    TrialOutcome,
    Whose,
    plain,
    workload_key,
)
from bystander.errors import ArchiveError

__all__ = ["RecordWriter", "begin_record", "begin_run", "record_writer", "resume_record"]

_T = tables.tables
_SLUG_LENGTH = 20


# Statements are built once: building one takes longer than running it.
_INSERT = {name: table.insert() for name, table in _T.items()}
_THIS, _OTHER = _T["attempt"], _T["attempt"].alias()
_TAKEN = select(_OTHER.c.id).where(_OTHER.c.block_id == _THIS.c.block_id, _OTHER.c.state == "whole").exists()
_ATTEMPT = _THIS.update().where(_THIS.c.id == bindparam("attempt"))
_VOID = Prepared(_ATTEMPT.values(state=literal("void")))
# Where the block was taken in from elsewhere meanwhile, that one counts, and this attempt is kept beside it.
_WHOLE = Prepared(_ATTEMPT.values(state=case((_TAKEN, literal("void")), else_=literal("whole"))))
_BLOCK = Prepared(
    select(_T["block"].c.id).where(
        *(_T["block"].c[name] == bindparam(name) for name in ("run_id", "workload", "number"))
    )
)
_ATTEMPTS = Prepared(
    select(func.count()).select_from(_T["attempt"]).where(_T["attempt"].c.block_id == bindparam("block"))
)


def packed(values: Any, kind: str = "<f8") -> bytes:
    """Return numbers as little-endian bytes, float64 by default."""
    return np.ascontiguousarray(values, dtype=kind).tobytes()


def begin_record(connection: Connection, head: RecordHead) -> tuple[RecordWriter, str]:
    """Begin a record and return its writer and its name; see `Archive.begin`."""
    row = {
        "uuid": head.uuid, "origin": head.origin, "state": "running", "started_wall_s": head.started_wall_s,
        "study": json.dumps(plain(head.study)), "study_folder": head.study_folder, "seed": head.study.seed or 0,
        "study_file": head.study_file, "provenance": head.provenance,
        "notes": json.dumps(list(head.notes)), "version": head.version,
    }  # fmt: skip
    described: tuple[tuple[str, Sequence[Any], Callable[[Any], dict[str, str]]], ...] = (
        ("arm", head.arms, lambda arm: {"key": arm.key, "state": json.dumps(plain(arm))}),
        ("workload", head.study.workloads, lambda workload: {"key": keys.get(workload.name) or workload_key(workload)}),
        ("measure", head.measures, lambda measure: {"description": json.dumps(plain(measure))}),
    )
    table = _T["record"]
    keys = dict(zip((one.name for one in head.study.workloads), head.workload_keys, strict=False))
    with atomic(connection):
        if connection.execute(select(table.c.id).where(table.c.uuid == head.uuid)).first():
            raise ArchiveError(f"the record {head.uuid} is in {connection.engine.url.database} already")
        name = _free_name(head.study.name, set(connection.execute(select(table.c.name)).scalars()))
        record = insert(connection, "record", {"name": name, **row})
        for kind, items, describe in described:
            about = [{"record_id": record, "position": i, "name": x.name, **describe(x)} for i, x in enumerate(items)]
            connection.execute(_INSERT[kind], about)
        machines = [_machine(connection, record, facts) for facts in head.machines or (MachineFacts(),)]
        runs = {run.number: _run(connection, record, run, machines) for run in head.runs or (head.timed_run,)}
    return RecordWriter(connection, record, head.measures, runs[head.timed_run.number], machines, runs), name


def begin_run(connection: Connection, head: RecordHead, run: Run, machine: MachineFacts) -> RecordWriter:
    """Begin one more run of a record, numbered behind the others, and return its writer."""
    record = _T["record"]
    with atomic(connection):
        record_id = connection.execute(select(record.c.id).where(record.c.uuid == head.uuid)).scalar_one()
        machine_id = _machine(connection, record_id, machine)
        run_id = _run(connection, record_id, run, {run.machine: machine_id})
    return RecordWriter(connection, record_id, head.measures, run_id, [machine_id], {run.number: run_id}, part=True)


def _run(connection: Connection, record: int, run: Run, machines: Mapping[int, int] | Sequence[int]) -> int:
    row = {
        "record_id": record, "number": run.number, "purpose": run.purpose, "seed": run.seed, "order": run.order,
        "machine_id": machines[run.machine], "options": json.dumps(dict(run.options)),
        "began_wall_s": run.began_wall_s, "ended_wall_s": run.ended_wall_s, "state": run.state,
    }  # fmt: skip
    return insert(connection, "run", row)


def _machine(connection: Connection, record: int, facts: MachineFacts) -> int:
    row = {"record_id": record, "boot_id": facts.boot_id, "facts": json.dumps(facts.known)}
    return insert(connection, "machine", row)


def resume_record(
    connection: Connection, head: RecordHead, machine: MachineFacts, number: int | None = None
) -> RecordWriter:
    """Return the writer of a run that is there; its half attempts are void from now on.

    Parameters
    ----------
    number : int, optional
        Of one more run in the record; its timed run by default, with which the record itself goes on.
    machine : MachineFacts
        The machine as it is now; the attempts that follow name it.
    """
    record, run, attempt, block = _T["record"], _T["run"], _T["attempt"], _T["block"]
    with atomic(connection):
        record_id = connection.execute(select(record.c.id).where(record.c.uuid == head.uuid)).scalar_one()
        of_record = run.c.record_id == record_id
        part, number = number is not None, head.timed_run.number if number is None else number
        run_id = connection.execute(select(run.c.id).where(of_record, run.c.number == number)).scalar_one()
        mine = select(block.c.id).where(block.c.run_id == run_id)
        halves = attempt.update().where(attempt.c.state == "open", attempt.c.block_id.in_(mine))
        connection.execute(halves.values(state="void"))
        if not part:
            connection.execute(record.update().where(record.c.id == record_id).values(state="running"))
        connection.execute(run.update().where(run.c.id == run_id).values(state="running", ended_wall_s=None))
        machine_id = _machine(connection, record_id, machine)
    return RecordWriter(connection, record_id, head.measures, run_id, [machine_id], {number: run_id}, part)


def record_writer(connection: Connection, head: RecordHead) -> RecordWriter:
    """Return a writer of a record's timed run, as it is; see `Archive.writer`."""
    record, run, machine = _T["record"], _T["run"], _T["machine"]
    record_id = connection.execute(select(record.c.id).where(record.c.uuid == head.uuid)).scalar_one()
    wanted = select(run.c.id).where(run.c.record_id == record_id, run.c.number == head.timed_run.number)
    run_id = connection.execute(wanted).scalar_one()
    machines = connection.execute(select(machine.c.id).where(machine.c.record_id == record_id)).scalars().all()
    connection.rollback()  # reading began a transaction, which would be in the way of one that writes
    return RecordWriter(connection, record_id, head.measures, run_id, machines, {head.timed_run.number: run_id})


def _free_name(title: str, taken: set[str]) -> str:
    """Return a readable name that is free: words of the study's name, and a number."""
    words = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-") or "record"
    slug = words if len(words) <= _SLUG_LENGTH else words[: _SLUG_LENGTH + 1].rsplit("-", 1)[0][:_SLUG_LENGTH]
    number = 1
    while f"{slug}-{number}" in taken:
        number += 1
    return f"{slug}-{number}"


class RecordWriter:
    """Appends to one run of a record over one connection.

    Parameters
    ----------
    machines : sequence of int
        Rows of the record's machines as they were begun; what is written from now on ran on the last one.
    runs : mapping
        Rows of its runs by their numbers.
    part : bool
        Whether the run is one more in a record that stands by itself.
    """

    def __init__(
        self, connection: Connection, record_id: int, measures: Sequence[Measure], run_id: int, machines: Sequence[int],
        runs: Mapping[int, int], part: bool = False,
    ) -> None:  # fmt: skip
        self._connection = connection
        self.record_id = record_id
        self._measures = [measure.name for measure in measures]
        self._run_id, self._runs, self._part = run_id, runs, part
        self._machines = list(machines)
        self._machine_id = machines[-1]
        self._attempts: dict[tuple[int, int], int] = {}
        self._files = EvidenceFiles(Path(str(connection.engine.url.database)))

    def trial(
        self, planned: PlannedTrial, outcome: TrialOutcome, limit_s: float, conditions: Mapping[str, int] | None = None
    ) -> None:
        """Write one trial, and that its block is whole where it is the last; on disk on return.

        Parameters
        ----------
        conditions : mapping, optional
            What was drawn for this block.
        """
        key = planned.block.workload, planned.block.number
        with atomic(self._connection) as connection:
            attempt = self._attempts.get(key) or self._open_attempt(planned.block, self._machine_id, conditions)
            self._insert_trial(attempt, planned.arm, planned.order, outcome, limit_s)
            if planned.last:
                _WHOLE.run(connection, {"attempt": attempt})
        self._attempts[key] = attempt

    def take(self, ran: BlockRun, limit_s: float, machine: MachineFacts) -> bool:
        """Write a block that ran elsewhere, whole; return whether it was not there yet.

        Parameters
        ----------
        limit_s : float
            Of its workload's trials.
        machine : MachineFacts
            Where it ran.
        """
        planned = PlannedBlock(ran.workload, ran.number, tuple(ran.outcomes))
        table = _T["attempt"]
        with atomic(self._connection) as connection:
            block = self._block(planned)
            whole = select(table.c.id).where(table.c.block_id == block, table.c.state == "whole")
            if connection.execute(whole).first():
                return False
            attempt = self._open_attempt(planned, self._machine_like(machine), ran.conditions)
            for order, (arm, outcome) in enumerate(ran.outcomes.items()):
                self._insert_trial(attempt, arm, order, outcome, limit_s)
            _WHOLE.run(connection, {"attempt": attempt})
            self._update({"provenance": "merged"})
        return True

    def _machine_like(self, facts: MachineFacts) -> int:
        """Return the row of a machine of the record that has these facts, a new one where there is none."""
        table = _T["machine"]
        query = select(table.c.id).where(table.c.record_id == self.record_id, table.c.facts == json.dumps(facts.known))
        return self._connection.execute(query).scalar() or _machine(self._connection, self.record_id, facts)

    def _insert_trial(self, attempt: int, arm: int, order: int, outcome: TrialOutcome, limit_s: float) -> None:
        self._add_measures(outcome.measures)
        readings = [outcome.readings.get(name, np.nan) for name in self._measures]
        row = {
            "attempt_id": attempt, "arm": arm, "order": order, "status": int(outcome.status),
            "detail": outcome.detail, "limit_s": limit_s if outcome.status is Status.CUT else None,
            "started_wall_s": outcome.started_wall_s, "started_monotonic_s": outcome.started_monotonic_s,
            "left_behind": outcome.left_behind, "answer": outcome.answer or None,
            "excerpt": outcome.excerpt or None, "readings": packed(readings),
        }  # fmt: skip
        trial_id = insert(self._connection, "trial", row)
        samples = [
            {
                "record_id": self.record_id, "measure": self._measures.index(name), "trial_id": trial_id,
                "readings": packed(values),
            }
            for name, values in outcome.samples.items() if name in self._measures
        ]  # fmt: skip
        if samples:
            self._connection.execute(_INSERT["samples"], samples)
        self._insert_evidence(outcome.evidence, {"trial_id": trial_id})

    def _insert_evidence(self, packets: Iterable[Evidence], of: Mapping[str, Any]) -> None:
        """Write packets; a large payload is in its file before a row names it."""
        for one in packets:
            payload = one.payload
            assert payload, "evidence is written with what it holds"
            large = len(payload.data) > LARGE_BYTES
            if large:
                self._files.keep(payload)
            row = {
                "record_id": self.record_id, **of, "kind": one.kind, "version": one.version,
                "summary": json.dumps(dict(one.summary)), "codec": payload.codec, "digest": payload.digest,
                "bytes": len(payload.data), "payload": None if large else payload.data,
            }  # fmt: skip
            insert(self._connection, "evidence", row)

    def evidence(self, of: Whose, packets: Iterable[Evidence]) -> None:
        """Write evidence that is of no single trial."""
        columns = {"run_id": self._runs[of.run], "workload": of.workload, "arm": of.arm}
        with atomic(self._connection):
            self._insert_evidence(packets, columns)

    def _add_measures(self, measures: Mapping[str, Measure]) -> None:
        """Add those that no trial before had; the readings of earlier trials are then shorter."""
        for name, measure in measures.items():
            if name not in self._measures:
                row = {"position": len(self._measures), "name": name, "description": json.dumps(plain(measure))}
                self._connection.execute(_INSERT["measure"], {"record_id": self.record_id, **row})
                self._measures.append(name)

    def _block(self, block: PlannedBlock) -> int:
        """Return the row of a block, which is made when this is its first attempt."""
        row = {"run_id": self._run_id, "workload": block.workload, "number": block.number}
        more = {"record_id": self.record_id, "arms": json.dumps(sorted(block.order))}
        return _BLOCK.value(self._connection, row) or insert(self._connection, "block", {**row, **more})

    def _open_attempt(self, block: PlannedBlock, machine_id: int, conditions: Mapping[str, int] | None) -> int:
        """Return a new attempt of a block."""
        block_id = self._block(block)
        before = _ATTEMPTS.value(self._connection, {"block": block_id})
        attempt = {
            "block_id": block_id, "number": before, "machine_id": machine_id,
            "state": "open", "conditions": json.dumps(dict(conditions)) if conditions else None,
        }  # fmt: skip
        return insert(self._connection, "attempt", attempt)

    def void(self, workload: int, block: int) -> None:
        """Put a block's attempt aside: its trials are kept, but never paired."""
        attempt = self._attempts.pop((workload, block))
        with atomic(self._connection) as connection:
            _VOID.run(connection, {"attempt": attempt})

    def machine_state(self, state: MachineState, machine: int | None = None) -> None:
        """Write down how the machine is now; `machine` is its position where the record was begun with several."""
        machine_id = self._machine_id if machine is None else self._machines[min(machine, len(self._machines) - 1)]
        row = {"machine_id": machine_id, "wall_s": time.time(), "facts": json.dumps(state.known)}
        with atomic(self._connection) as connection:
            connection.execute(_INSERT["machine_state"], row)

    def looks(self, taken: Sequence[LookTaken]) -> None:
        """Write down what was looked at and what came of it; a look that is there already stays as it is."""
        rows = [{"record_id": self.record_id, **plain(look)} for look in taken]
        if rows:
            with atomic(self._connection) as connection:
                connection.execute(_INSERT["look"].prefix_with("OR IGNORE"), rows)

    def remark(self, sentence: str) -> None:
        """Add a note to the record, which every output repeats."""
        with atomic(self._connection):
            self._update({"notes": json.dumps([*self._notes(), sentence])})

    def finish(self, state: State, notes: Sequence[str] = ()) -> None:
        """Say how the run ended, and the record with it unless this is a part of it; add notes to it."""
        ended = {"state": state, "ended_wall_s": time.time()}
        with atomic(self._connection) as connection:
            noted = {"notes": json.dumps([*self._notes(), *notes])}
            self._update(noted if self._part else {**ended, **noted})
            run = _T["run"]
            connection.execute(run.update().where(run.c.id == self._run_id).values(**ended))

    def _notes(self) -> list[str]:
        table = _T["record"]
        kept = self._connection.execute(select(table.c.notes).where(table.c.id == self.record_id)).scalar_one()
        return list(json.loads(kept))

    def _update(self, values: Mapping[str, Any]) -> None:
        table = _T["record"]
        self._connection.execute(table.update().where(table.c.id == self.record_id).values(**values))

    def arrays(self, arrays: Sequence[TrialArray], blocks: Sequence[BlockHead] = ()) -> None:
        """Write many trials in one transaction, and which whole blocks they are of."""
        with atomic(self._connection) as connection:
            for array in arrays:
                array_id = insert(connection, "trial_array", self._array_row(array))
                samples = [
                    {
                        "record_id": self.record_id, "measure": measure, "array_id": array_id, "array_row": row,
                        "readings": packed(values),
                    }
                    for row, measure, values in array.samples
                ]  # fmt: skip
                if samples:
                    connection.execute(_INSERT["samples"], samples)
                for row, packets in array.evidence.items():
                    self._insert_evidence(packets, {"array_id": array_id, "array_row": row})
            for block in blocks:
                self._insert_block(block)

    def _insert_block(self, block: BlockHead) -> None:
        """Write a whole block whose trials stand in arrays."""
        columns = {"run_id": self._runs[block.run], "workload": block.workload, "number": block.number}
        block_id = insert(self._connection, "block", {"record_id": self.record_id, **columns})
        attempt = {
            "block_id": block_id, "number": block.attempt, "machine_id": self._machines[block.machine],
            "state": "whole", "conditions": json.dumps(dict(block.conditions)) if block.conditions else None,
        }  # fmt: skip
        insert(self._connection, "attempt", attempt)

    def _array_row(self, array: TrialArray) -> dict[str, Any]:
        return {
            "record_id": self.record_id,
            "workload": array.workload,
            "arm": array.arm,
            "trials": array.block.size,
            "blocks": packed(array.block, "<i8"),
            "orders": packed(array.order, "<i8"),
            "statuses": packed(array.status, "<i8"),
            "details": packed(array.detail, "<i8"),
            "limits_s": packed(array.limit_s),
            "started_s": packed(array.started_s),
            "readings": packed(array.readings),
            "machines": packed(array.machine, "<i8"),
            "texts": json.dumps({"answers": dict(array.answers), "excerpts": dict(array.excerpts)}),
        }
