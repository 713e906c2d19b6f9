"""What is added to a record that is there: arms that are made later, and what other runs than the timed one hold."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, select

from bystander.archive.file.engine import atomic
from bystander.archive.tables.schema import tables
from bystander.archive.writer import packed
from bystander.design import ArmState, Study, TrialColumns, plain

__all__ = ["add_arm", "add_trials", "set_options"]

_T = tables.tables


def add_arm(connection: Connection, uuid: str, study: Study, state: ArmState) -> None:
    """Add an arm that was made while a record runs; it is the last of those of its study, which is given with it."""
    record = _T["record"]
    with atomic(connection):
        of = connection.execute(select(record.c.id).where(record.c.uuid == uuid)).scalar_one()
        row = {"record_id": of, "position": len(study.arms) - 1, "name": state.name, "key": state.key}
        connection.execute(_T["arm"].insert().values(**row, state=json.dumps(plain(state))))
        connection.execute(record.update().where(record.c.id == of).values(study=json.dumps(plain(study))))


def set_options(connection: Connection, uuid: str, number: int, options: Mapping[str, Any]) -> None:
    """Write down anew what a run was asked for besides, and what came of it."""
    record, run = _T["record"], _T["run"]
    with atomic(connection):
        of = connection.execute(select(record.c.id).where(record.c.uuid == uuid)).scalar_one()
        mine = run.update().where(run.c.record_id == of, run.c.number == number)
        connection.execute(mine.values(options=json.dumps(dict(options))))


def add_trials(connection: Connection, uuid: str, number: int, trials: TrialColumns) -> None:
    """Add the trials of a run, whose whole blocks are there already."""
    record, run, block, attempt = _T["record"], _T["run"], _T["block"], _T["attempt"]
    whole = (
        select(block.c.workload, block.c.number, attempt.c.id)
        .join(attempt, attempt.c.block_id == block.c.id).join(run, block.c.run_id == run.c.id)
        .join(record, run.c.record_id == record.c.id).where(record.c.uuid == uuid, run.c.number == number)
    )  # fmt: skip
    with atomic(connection):
        attempts = {(workload, place): of for workload, place, of in connection.execute(whole)}
        rows = [
            {
                "attempt_id": attempts[workload, place], "arm": arm, "order": order, "status": status,
                "detail": detail, "limit_s": _known(limit_s), "started_wall_s": _known(started_s),
                "started_monotonic_s": None, "left_behind": 0, "excerpt": None, "readings": packed(readings),
                "answer": None if answer < 0 else f"run-{number}-answer-{answer}",
            }
            for workload, place, arm, order, status, detail, limit_s, started_s, answer, readings in zip(
                trials.workload.tolist(), trials.block.tolist(), trials.arm.tolist(), trials.order.tolist(),
                trials.status.tolist(), trials.details.tolist(), trials.limit_s.tolist(),
                trials.started_s.tolist(), trials.answers.tolist(), trials.readings, strict=True,
            )
        ]  # fmt: skip
        if rows:
            connection.execute(_T["trial"].insert(), rows)


def _known(value: float) -> float | None:
    return None if math.isnan(value) else value
