"""Writing a record, so that a trial that ended is on disk before the next begins."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict
from typing import Any

import numpy as np
from sqlalchemy import Connection, bindparam, func, select

from bystander.archive.engine import atomic
from bystander.archive.schema import tables
from bystander.archive.timelines import packed_timeline
from bystander.design import (
    LookTaken,
    Measure,
    RecordHead,
    Status,
    TrialArray,
    TrialOutcome,
    plain,
    workload_key,
)
from bystander.errors import ArchiveError

__all__ = ["RecordWriter", "begin_record", "resume_record"]

_T = tables.tables
_SLUG_LENGTH = 20


# Statements are built once: building one takes longer than running it.
_INSERT = {name: table.insert() for name, table in _T.items()}
_STATE = _T["attempt"].update().where(_T["attempt"].c.id == bindparam("attempt")).values(state=bindparam("new"))


def packed(values: Any, kind: str = "<f8") -> bytes:
    """Return numbers as little-endian bytes, float64 by default."""
    return np.ascontiguousarray(values, dtype=kind).tobytes()


def insert(connection: Connection, table: str, row: Mapping[str, Any]) -> int:
    """Insert one row and return its id."""
    key = connection.execute(_INSERT[table], row).inserted_primary_key
    assert key is not None
    return int(key[0])


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
        ("workload", head.study.workloads, lambda workload: {"key": workload_key(workload)}),
        ("measure", head.measures, lambda measure: {"description": json.dumps(plain(measure))}),
    )
    table = _T["record"]
    with atomic(connection):
        if connection.execute(select(table.c.id).where(table.c.uuid == head.uuid)).first():
            raise ArchiveError(f"the record {head.uuid} is in {connection.engine.url.database} already")
        name = _free_name(head.study.name, set(connection.execute(select(table.c.name)).scalars()))
        record = insert(connection, "record", {"name": name, **row})
        for kind, items, describe in described:
            about = [{"record_id": record, "position": i, "name": x.name, **describe(x)} for i, x in enumerate(items)]
            connection.execute(_INSERT[kind], about)
        machine_id = _machine(connection, record, head.machine)
    return RecordWriter(connection, record, head.measures, machine_id), name


def _machine(connection: Connection, record: int, facts: Mapping[str, Any]) -> int:
    row = {"record_id": record, "boot_id": facts.get("boot_id"), "facts": json.dumps(dict(facts))}
    return insert(connection, "machine", row)


def resume_record(
    connection: Connection, uuid: str, measures: Sequence[Measure], machine: Mapping[str, Any]
) -> RecordWriter:
    """Return the writer of a record that is there; its half attempts are void from now on.

    Parameters
    ----------
    machine : mapping
        The machine as it is now; the attempts that follow name it.
    """
    record, attempt, block = _T["record"], _T["attempt"], _T["block"]
    with atomic(connection):
        record_id = connection.execute(select(record.c.id).where(record.c.uuid == uuid)).scalar_one()
        mine = select(block.c.id).where(block.c.record_id == record_id)
        halves = attempt.update().where(attempt.c.state == "open", attempt.c.block_id.in_(mine))
        connection.execute(halves.values(state="void"))
        connection.execute(record.update().where(record.c.id == record_id).values(state="running"))
        machine_id = _machine(connection, record_id, machine)
    return RecordWriter(connection, record_id, measures, machine_id)


def _free_name(title: str, taken: set[str]) -> str:
    """Return a readable name that is free: words of the study's name, and a number."""
    words = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-") or "record"
    slug = words if len(words) <= _SLUG_LENGTH else words[: _SLUG_LENGTH + 1].rsplit("-", 1)[0][:_SLUG_LENGTH]
    number = 1
    while f"{slug}-{number}" in taken:
        number += 1
    return f"{slug}-{number}"


class RecordWriter:
    """Appends to one record over one connection."""

    def __init__(self, connection: Connection, record_id: int, measures: Sequence[Measure], machine_id: int) -> None:
        self._connection = connection
        self.record_id = record_id
        self._measures = [measure.name for measure in measures]
        self._machine_id = machine_id
        self._attempts: dict[tuple[int, int], int] = {}

    def trial(
        self,
        workload: int,
        block: int,
        arm: int,
        order: int,
        outcome: TrialOutcome,
        limit_s: float,
        last: bool,
        conditions: Mapping[str, int] | None = None,
    ) -> None:
        """Write one trial, and say whether it was the last of its block; on disk on return.

        Parameters
        ----------
        conditions : mapping, optional
            What was drawn for this block.
        """
        with atomic(self._connection) as connection:
            self._add_measures(outcome.measures)
            readings = [outcome.readings.get(name, np.nan) for name in self._measures]
            attempt = self._attempts.get((workload, block)) or self._open_attempt(workload, block, conditions)
            row = {
                "attempt_id": attempt, "arm": arm, "order": order, "status": int(outcome.status),
                "detail": outcome.detail, "limit_s": limit_s if outcome.status is Status.CUT else None,
                "started_wall_s": outcome.started_wall_s, "started_monotonic_s": outcome.started_monotonic_s,
                "left_behind": outcome.left_behind, "answer": outcome.answer or None,
                "excerpt": outcome.excerpt or None, "readings": packed(readings),
            }  # fmt: skip
            trial_id = insert(connection, "trial", row)
            samples = [
                {
                    "record_id": self.record_id, "measure": self._measures.index(name), "trial_id": trial_id,
                    "readings": packed(values),
                }
                for name, values in outcome.samples.items() if name in self._measures
            ]  # fmt: skip
            if samples:
                connection.execute(_INSERT["samples"], samples)
            if outcome.told:
                told = {"summary": json.dumps(outcome.told_summary), "phases": packed_timeline(outcome.told.timeline)}
                connection.execute(_INSERT["timeline"], {"trial_id": trial_id, "record_id": self.record_id, **told})
            if last:
                connection.execute(_STATE, {"attempt": attempt, "new": "whole"})
        self._attempts[workload, block] = attempt

    def _add_measures(self, measures: Mapping[str, Measure]) -> None:
        """Add those that no trial before had; the readings of earlier trials are then shorter."""
        for name, measure in measures.items():
            if name not in self._measures:
                row = {"position": len(self._measures), "name": name, "description": json.dumps(plain(measure))}
                self._connection.execute(_INSERT["measure"], {"record_id": self.record_id, **row})
                self._measures.append(name)

    def _open_attempt(self, workload: int, block: int, conditions: Mapping[str, int] | None) -> int:
        """Return a new attempt of a block, which is made when this is its first."""
        table, attempts = _T["block"], _T["attempt"]
        row = {"record_id": self.record_id, "workload": workload, "number": block}
        there = select(table.c.id).where(*(table.c[name] == value for name, value in row.items()))
        block_id = self._connection.execute(there).scalar() or insert(self._connection, "block", row)
        before = select(func.count()).select_from(attempts).where(attempts.c.block_id == block_id)
        number = self._connection.execute(before).scalar_one()
        told = json.dumps(dict(conditions)) if conditions else None
        attempt = {
            "block_id": block_id, "number": number, "machine_id": self._machine_id, "state": "open", "conditions": told,
        }  # fmt: skip
        return insert(self._connection, "attempt", attempt)

    def void(self, workload: int, block: int) -> None:
        """Put a block's attempt aside: its trials are kept, but never paired."""
        attempt = self._attempts.pop((workload, block))
        with atomic(self._connection) as connection:
            connection.execute(_STATE, {"attempt": attempt, "new": "void"})

    def machine_state(self, facts: Mapping[str, Any]) -> None:
        """Write down how the machine is now, with `first_block` and `last_block` where blocks ran before."""
        row = {"machine_id": self._machine_id, "wall_s": time.time(), "facts": json.dumps(facts)}
        with atomic(self._connection) as connection:
            connection.execute(_INSERT["machine_state"], row)

    def looks(self, taken: Sequence[LookTaken]) -> None:
        """Write down what was looked at and what came of it; a look that is there already stays as it is."""
        rows = [{"record_id": self.record_id, **asdict(look)} for look in taken]
        if rows:
            with atomic(self._connection) as connection:
                connection.execute(_INSERT["look"].prefix_with("OR IGNORE"), rows)

    def remark(self, sentence: str) -> None:
        """Add a note to the record, which every output repeats."""
        with atomic(self._connection):
            self._update({"notes": json.dumps([*self._notes(), sentence])})

    def finish(self, state: str, notes: Sequence[str] = ()) -> None:
        """Say how the record ended: "complete" or "interrupted"; add notes to it."""
        with atomic(self._connection):
            told = json.dumps([*self._notes(), *notes])
            self._update({"state": state, "ended_wall_s": time.time(), "notes": told})

    def _notes(self) -> list[str]:
        table = _T["record"]
        kept = self._connection.execute(select(table.c.notes).where(table.c.id == self.record_id)).scalar_one()
        return list(json.loads(kept))

    def _update(self, values: Mapping[str, Any]) -> None:
        table = _T["record"]
        self._connection.execute(table.update().where(table.c.id == self.record_id).values(**values))

    def arrays(self, arrays: Sequence[TrialArray]) -> None:
        """Write many trials in one transaction."""
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
                for row, (summary, timeline) in array.told.items():
                    told = {"summary": json.dumps(dict(summary)), "phases": packed_timeline(timeline)}
                    place = {"record_id": self.record_id, "array_id": array_id, "array_row": row}
                    connection.execute(_INSERT["timeline"], {**place, **told})

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
