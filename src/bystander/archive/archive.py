"""One archive file: records are begun, listed and read back."""

from __future__ import annotations

import json
import re
import sqlite3
import time
import uuid as uuids
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from difflib import get_close_matches
from pathlib import Path
from types import TracebackType
from typing import Any

import numpy as np
from sqlalchemy import Connection, Row, select
from sqlalchemy.exc import DatabaseError

from bystander.archive.engine import atomic, migrate, open_engine, refuse_network
from bystander.archive.schema import tables
from bystander.archive.writer import RecordWriter, insert
from bystander.design import (
    ArmState,
    Measure,
    Record,
    RecordHead,
    Study,
    Trials,
    arm_state_from,
    measure_from,
    plain,
    study_from,
    workload_key,
)
from bystander.errors import ArchiveError, UnknownRecordError

__all__ = ["Archive"]

_T = tables.tables
_SLUG_LENGTH = 20


class Archive:
    """An open archive; use it as a context.

    Parameters
    ----------
    path : Path
    create : bool
        Make the file, and its folder, when there is none.
    """

    def __init__(self, path: Path, create: bool = False) -> None:
        self.path = path
        if not path.exists() and not create:
            raise ArchiveError(f"there is no archive {path}; bystander observe makes one")
        refuse_network(path.resolve())
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            engine = open_engine(path)
            migrate(engine)
            self._connection: Connection = engine.connect()
        except (DatabaseError, sqlite3.Error, OSError) as error:
            reason = getattr(error, "orig", error)
            raise ArchiveError(f"{path} cannot be opened as an archive: {reason}") from error

    def __enter__(self) -> Archive:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._connection.close()

    def atomic(self) -> AbstractContextManager[Connection]:
        """Return a context in which everything that is written comes about together or not at all."""
        return atomic(self._connection)

    def begin(
        self,
        study: Study,
        study_folder: str,
        arms: Sequence[ArmState],
        measures: Sequence[Measure],
        machine: Mapping[str, Any],
        version: str,
        origin: str = "observed",
        started_wall_s: float | None = None,
        notes: Sequence[str] = (),
        uuid: str | None = None,
    ) -> tuple[RecordWriter, str]:
        """Begin a record and return its writer and its name; the study must hold the seed."""
        row = {
            "uuid": uuid or str(uuids.uuid4()), "origin": origin, "state": "running",
            "started_wall_s": time.time() if started_wall_s is None else started_wall_s,
            "study": json.dumps(plain(study)), "study_folder": study_folder, "seed": study.seed or 0,
            "notes": json.dumps(list(notes)), "version": version,
        }  # fmt: skip
        with atomic(self._connection) as connection:
            if connection.execute(select(_T["record"].c.id).where(_T["record"].c.uuid == row["uuid"])).first():
                raise ArchiveError(f"the record {row['uuid']} is in {self.path} already")
            name = self._free_name(study.name)
            record = insert(connection, "record", {"name": name, **row})
            for table, rows in self._descriptions(record, study, arms, measures):
                connection.execute(_T[table].insert(), rows)
            host = {
                "record_id": record,
                "boot_id": machine.get("boot_id"),
                "facts": json.dumps(dict(machine)),
            }
            machine_id = insert(connection, "machine", host)
        return RecordWriter(self._connection, record, measures, machine_id), name

    @staticmethod
    def _descriptions(
        record: int, study: Study, arms: Sequence[ArmState], measures: Sequence[Measure]
    ) -> list[tuple[str, list[dict[str, Any]]]]:
        def rows(items: Sequence[Any], describe: Any) -> list[dict[str, Any]]:
            return [
                {"record_id": record, "position": i, "name": item.name, **describe(item)}
                for i, item in enumerate(items)
            ]

        return [
            ("arm", rows(arms, lambda arm: {"key": arm.key, "state": json.dumps(plain(arm))})),
            ("workload", rows(study.workloads, lambda workload: {"key": workload_key(workload)})),
            ("measure", rows(measures, lambda measure: {"description": json.dumps(plain(measure))})),
        ]

    def _free_name(self, title: str) -> str:
        """Return a readable name that no record has: words of the study's name, and a number."""
        words = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-") or "record"
        slug = words if len(words) <= _SLUG_LENGTH else words[: _SLUG_LENGTH + 1].rsplit("-", 1)[0][:_SLUG_LENGTH]
        taken = set(self._connection.execute(select(_T["record"].c.name)).scalars())
        number = 1
        while f"{slug}-{number}" in taken:
            number += 1
        return f"{slug}-{number}"

    def heads(self) -> list[RecordHead]:
        """Return all records without their trials, the oldest first."""
        rows = self._rows(select(_T["record"]).order_by(_T["record"].c.id))
        return [self._head(row) for row in rows]

    def _rows(self, query: Any) -> Sequence[Row[Any]]:
        try:
            return self._connection.execute(query).all()
        except DatabaseError as error:
            raise ArchiveError(f"the archive {self.path} cannot be read: {error.orig}") from error
        finally:
            self._connection.rollback()

    def _described(self, table: str, record: int) -> Sequence[Row[Any]]:
        return self._rows(select(_T[table]).where(_T[table].c.record_id == record).order_by(_T[table].c.position))

    def _find(self, name: str | None) -> Row[Any]:
        """Return the row of a record by name or beginning of its UUID; the newest without a name."""
        rows = self._rows(select(_T["record"]).order_by(_T["record"].c.id.desc()))
        if not rows:
            raise UnknownRecordError(f"{self.path} holds no record yet; bystander observe makes one")
        if name is None:
            return rows[0]
        for row in rows:
            if row.name == name or row.uuid == name:
                return row
        begins = [row for row in rows if len(name) >= 6 and row.uuid.startswith(name)]
        if len(begins) == 1:
            return begins[0]
        near = get_close_matches(name, [row.name for row in rows], 1, 0.4) or [rows[0].name]
        raise UnknownRecordError(f'there is no record "{name}" in {self.path}; did you mean "{near[0]}"?')

    def head(self, name: str | None = None) -> RecordHead:
        """Return one record without its trials."""
        return self._head(self._find(name))

    def _head(self, row: Row[Any]) -> RecordHead:
        machines = self._rows(select(_T["machine"].c.facts).where(_T["machine"].c.record_id == row.id))
        return RecordHead(
            uuid=row.uuid,
            name=row.name,
            origin=row.origin,
            state=row.state,
            started_wall_s=row.started_wall_s,
            study=study_from(json.loads(row.study)),
            study_folder=row.study_folder,
            arms=tuple(arm_state_from(json.loads(arm.state)) for arm in self._described("arm", row.id)),
            workload_keys=tuple(workload.key for workload in self._described("workload", row.id)),
            measures=tuple(
                measure_from(json.loads(measure.description)) for measure in self._described("measure", row.id)
            ),
            machine=json.loads(machines[0].facts) if machines else {},
            version=row.version,
            notes=tuple(json.loads(row.notes)),
        )

    def load(self, name: str | None = None, halves: bool = False) -> Record:
        """Return a record with all trials of whole attempts, and with `halves` those of others too."""
        row = self._find(name)
        head = self._head(row)
        block, attempt, trial = _T["block"], _T["attempt"], _T["trial"]
        query = (
            select(
                block.c.workload, trial.c.arm, block.c.number, trial.c.order, trial.c.status, trial.c.limit_s,
                trial.c.readings, trial.c.answer, trial.c.started_wall_s, trial.c.detail, trial.c.id, trial.c.excerpt,
            )
            .join_from(block, attempt, attempt.c.block_id == block.c.id)
            .join(trial, trial.c.attempt_id == attempt.c.id)
            .where(block.c.record_id == row.id, *([] if halves else [attempt.c.state == "whole"]))
            .order_by(trial.c.id)
        )  # fmt: skip
        rows = self._rows(query)
        samples = self._rows(
            select(_T["samples"]).where(_T["samples"].c.record_id == row.id).order_by(_T["samples"].c.id)
        )
        return _record(head, rows, samples)


def _unpacked(data: bytes) -> np.ndarray[Any, np.dtype[np.float64]]:
    return np.frombuffer(data, dtype="<f8")


def _record(head: RecordHead, rows: Sequence[Row[Any]], samples: Sequence[Row[Any]]) -> Record:
    """Put rows into columns; values in no block follow as trials of their own."""
    width = len(head.measures)
    columns = list(zip(*rows, strict=True)) or [()] * 12
    alone = [row for row in samples if row.trial_id is None]
    lengths = [len(row.readings) // 8 for row in alone]
    extra = sum(lengths)
    readings = np.full((len(rows) + extra, width), np.nan)
    if rows:
        readings[: len(rows)] = _unpacked(b"".join(columns[6])).reshape(-1, width)

    def whole(column: int, more: Sequence[int] = (), fill: int = -1) -> Any:
        tail = np.repeat(more, lengths) if len(more) else np.full(extra, fill)
        return np.concatenate([np.array(columns[column], dtype=np.int64), tail.astype(np.int64)])

    def real(column: int) -> Any:
        return np.concatenate([np.array(columns[column], dtype=np.float64), np.full(extra, np.nan)])

    status, limits, start = whole(4, fill=0), real(5), len(rows)
    for row, length in zip(alone, lengths, strict=True):
        part = slice(start, start + length)
        readings[part, row.measure] = _unpacked(row.readings)
        if row.statuses:
            status[part] = np.frombuffer(row.statuses, dtype=np.int8)
            limits[part] = readings[part, row.measure]
        start += length
    trials = Trials(
        workload=whole(0, [row.workload for row in alone]),
        arm=whole(1, [row.arm for row in alone]),
        block=whole(2),
        order=whole(3),
        status=status,
        limit_s=limits,
        readings=readings,
        answers=np.concatenate([_numbered(columns[7]), np.full(extra, -1)]),
        started_s=real(8),
        details=whole(9, fill=0),
    )
    at = {trial: i for i, trial in enumerate(columns[10])}
    names = [measure.name for measure in head.measures]
    several = {(at[s.trial_id], names[s.measure]): _unpacked(s.readings) for s in samples if s.trial_id in at}
    excerpts = {i: text for i, text in enumerate(columns[11]) if text}
    return Record(head, trials, several, excerpts)


def _numbered(answers: Sequence[str | None]) -> Any:
    """Return equal numbers for equal answers, -1 for none."""
    numbers: dict[str | None, int] = {None: -1}
    return np.array([numbers.setdefault(answer, len(numbers)) for answer in answers], dtype=np.int64)
