"""Writing a record, so that a trial that ended is on disk before the next begins."""

from __future__ import annotations

import json
import re
import time
import uuid as uuids
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from sqlalchemy import Connection, bindparam, select

from bystander.archive.engine import atomic
from bystander.archive.schema import tables
from bystander.design import (
    ArmState,
    Measure,
    Status,
    Study,
    TrialArray,
    TrialOutcome,
    plain,
    workload_key,
)
from bystander.errors import ArchiveError

__all__ = ["RecordWriter", "begin_record"]

_T = tables.tables
_SLUG_LENGTH = 20


# Statements are built once: building one takes longer than running it.
_INSERT = {name: table.insert() for name, table in _T.items()}
_WHOLE = _T["attempt"].update().where(_T["attempt"].c.id == bindparam("attempt")).values(state="whole")


def packed(values: Any, kind: str = "<f8") -> bytes:
    """Return numbers as little-endian bytes, float64 by default."""
    return np.ascontiguousarray(values, dtype=kind).tobytes()


def insert(connection: Connection, table: str, row: Mapping[str, Any]) -> int:
    """Insert one row and return its id."""
    key = connection.execute(_INSERT[table], row).inserted_primary_key
    assert key is not None
    return int(key[0])


def begin_record(
    connection: Connection,
    study: Study,
    study_folder: str,
    arms: Sequence[ArmState],
    measures: Sequence[Measure],
    machine: Mapping[str, Any],
    version: str,
    origin: str,
    started_wall_s: float | None,
    notes: Sequence[str],
    uuid: str | None,
) -> tuple[RecordWriter, str]:
    """Begin a record and return its writer and its name; see `Archive.begin`."""
    row = {
        "uuid": uuid or str(uuids.uuid4()), "origin": origin, "state": "running",
        "started_wall_s": time.time() if started_wall_s is None else started_wall_s,
        "study": json.dumps(plain(study)), "study_folder": study_folder, "seed": study.seed or 0,
        "notes": json.dumps(list(notes)), "version": version,
    }  # fmt: skip
    described: tuple[tuple[str, Sequence[Any], Callable[[Any], dict[str, str]]], ...] = (
        ("arm", arms, lambda arm: {"key": arm.key, "state": json.dumps(plain(arm))}),
        ("workload", study.workloads, lambda workload: {"key": workload_key(workload)}),
        ("measure", measures, lambda measure: {"description": json.dumps(plain(measure))}),
    )
    table = _T["record"]
    with atomic(connection):
        if connection.execute(select(table.c.id).where(table.c.uuid == row["uuid"])).first():
            raise ArchiveError(f"the record {row['uuid']} is in {connection.engine.url.database} already")
        name = _free_name(study.name, set(connection.execute(select(table.c.name)).scalars()))
        record = insert(connection, "record", {"name": name, **row})
        for kind, items, describe in described:
            about = [{"record_id": record, "position": i, "name": x.name, **describe(x)} for i, x in enumerate(items)]
            connection.execute(_INSERT[kind], about)
        host = {"record_id": record, "boot_id": machine.get("boot_id"), "facts": json.dumps(dict(machine))}
        machine_id = insert(connection, "machine", host)
    return RecordWriter(connection, record, measures, machine_id), name


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
    ) -> None:
        """Write one trial, and say whether it was the last of its block; on disk on return."""
        readings = [outcome.readings.get(name, np.nan) for name in self._measures]
        with atomic(self._connection) as connection:
            attempt = self._attempts.get((workload, block)) or self._open_block(workload, block)
            row = {
                "attempt_id": attempt, "arm": arm, "order": order, "status": int(outcome.status),
                "detail": outcome.detail, "limit_s": limit_s if outcome.status is Status.CUT else None,
                "started_wall_s": outcome.started_wall_s, "started_monotonic_s": outcome.started_monotonic_s,
                "left_behind": outcome.left_behind, "answer": outcome.answer or None,
                "excerpt": outcome.excerpt or None, "readings": packed(readings),
            }  # fmt: skip
            connection.execute(_INSERT["trial"], row)
            if last:
                connection.execute(_WHOLE, {"attempt": attempt})
        self._attempts[workload, block] = attempt

    def _open_block(self, workload: int, block: int) -> int:
        row = {
            "record_id": self.record_id,
            "workload": workload,
            "number": block,
            "machine_id": self._machine_id,
        }
        block_id = insert(self._connection, "block", row)
        attempt = {"block_id": block_id, "number": 0, "state": "open"}
        return insert(self._connection, "attempt", attempt)

    def machine_state(self, facts: Mapping[str, Any]) -> None:
        """Write down how the machine is now."""
        row = {"machine_id": self._machine_id, "wall_s": time.time(), "facts": json.dumps(facts)}
        with atomic(self._connection) as connection:
            connection.execute(_INSERT["machine_state"], row)

    def finish(self, state: str, notes: Sequence[str] = ()) -> None:
        """Say how the record ended: "complete" or "interrupted"; add notes to it."""
        table = _T["record"]
        mine = table.c.id == self.record_id
        with atomic(self._connection) as connection:
            kept = json.loads(connection.execute(select(table.c.notes).where(mine)).scalar_one())
            values = {"state": state, "ended_wall_s": time.time(), "notes": json.dumps([*kept, *notes])}
            connection.execute(table.update().where(mine).values(**values))

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
            "texts": json.dumps({"answers": dict(array.answers), "excerpts": dict(array.excerpts)}),
        }
