"""Writing a record, so that a trial that ended is on disk before the next begins."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from sqlalchemy import Connection, func, select

from bystander.archive.engine import atomic
from bystander.archive.schema import tables
from bystander.design import ArrayRows, Measure, Status, TrialOutcome, TrialRows

__all__ = ["RecordWriter", "insert", "packed"]

_T = tables.tables


def packed(values: Any) -> bytes:
    """Return numbers as little-endian float64."""
    return np.asarray(values, dtype="<f8").tobytes()


def insert(connection: Connection, table: str, row: Mapping[str, Any]) -> int:
    """Insert one row and return its id."""
    key = connection.execute(_T[table].insert().values(**row)).inserted_primary_key
    assert key is not None
    return int(key[0])


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
            connection.execute(
                _T["trial"].insert().values(
                    attempt_id=attempt, arm=arm, order=order, status=int(outcome.status), detail=outcome.detail,
                    limit_s=limit_s if outcome.status is Status.CUT else None,
                    started_wall_s=outcome.started_wall_s, started_monotonic_s=outcome.started_monotonic_s,
                    left_behind=outcome.left_behind, answer=outcome.answer or None, excerpt=outcome.excerpt or None,
                    readings=packed(readings),
                )
            )  # fmt: skip
            if last:
                table = _T["attempt"]
                connection.execute(table.update().where(table.c.id == attempt).values(state="whole"))
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
            connection.execute(_T["machine_state"].insert().values(**row))

    def finish(self, state: str, notes: Sequence[str] = ()) -> None:
        """Say how the record ended: "complete" or "interrupted"; add notes to it."""
        table = _T["record"]
        mine = table.c.id == self.record_id
        with atomic(self._connection) as connection:
            kept = json.loads(connection.execute(select(table.c.notes).where(mine)).scalar_one())
            values = {"state": state, "ended_wall_s": time.time(), "notes": json.dumps([*kept, *notes])}
            connection.execute(table.update().where(mine).values(**values))

    def bulk(self, trials: Sequence[TrialRows], arrays: Sequence[ArrayRows]) -> None:
        """Write many trials in one transaction, every block whole."""
        with atomic(self._connection):
            for rows in trials:
                self._bulk_trials(rows)
            if arrays:
                self._connection.execute(
                    _T["samples"].insert(),
                    [self._sample(a.workload, a.arm, a.measure, None, a.readings, a.statuses) for a in arrays],
                )

    def _next_id(self, table: str) -> int:
        newest = self._connection.execute(select(func.coalesce(func.max(_T[table].c.id), 0))).scalar_one()
        return int(newest) + 1

    def _bulk_trials(self, rows: TrialRows) -> None:
        numbers, which = np.unique(rows.block, return_inverse=True)
        block, attempt, trial = self._next_id("block"), self._next_id("attempt"), self._next_id("trial")
        run = self._connection.exec_driver_sql  # a million rows: no statement is built for each
        own = (self.record_id, rows.workload)
        run(
            "INSERT INTO block (id, record_id, workload, number, machine_id) VALUES (?, ?, ?, ?, ?)",
            [(block + i, *own, number, self._machine_id) for i, number in enumerate(numbers.tolist())],
        )
        run(
            "INSERT INTO attempt (id, block_id, number, state) VALUES (?, ?, 0, 'whole')",
            [(attempt + i, block + i) for i in range(numbers.size)],
        )
        data, width = packed(rows.readings), 8 * rows.readings.shape[1]
        limits = [None if np.isnan(limit) else limit for limit in rows.limit_s.tolist()]
        starts = [None if np.isnan(start) else start for start in rows.started_s.tolist()]
        nothing = [None] * len(limits)
        columns = zip(
            (which + attempt).tolist(), rows.arm.tolist(), rows.order.tolist(), rows.status.tolist(),
            rows.detail.tolist(), limits, starts, rows.answers or nothing, rows.excerpts or nothing,
            strict=True,
        )  # fmt: skip
        run(
            'INSERT INTO trial (id, attempt_id, arm, "order", status, detail, limit_s, started_wall_s, answer, '
            "excerpt, left_behind, readings) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, ?)",
            [(trial + i, *row, data[i * width : (i + 1) * width]) for i, row in enumerate(columns)],
        )
        if rows.samples:
            self._connection.execute(
                _T["samples"].insert(),
                [
                    self._sample(rows.workload, int(rows.arm[row]), measure, trial + row, values, None)
                    for row, measure, values in rows.samples
                ],
            )

    def _sample(
        self, workload: int, arm: int, measure: int, trial: int | None, values: Any, statuses: Any
    ) -> dict[str, Any]:
        return {
            "record_id": self.record_id, "workload": workload, "arm": arm, "measure": measure, "trial_id": trial,
            "readings": packed(values),
            "statuses": None if statuses is None or not statuses.any() else statuses.astype(np.int8).tobytes(),
        }  # fmt: skip
