"""Reading records: plain SELECTs over the standard library's SQLite.

Building statements with the library that writes them would triple the time it takes to start; the texts
here are standard SQL and hold for any database with the same tables.
"""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, replace
from difflib import get_close_matches
from pathlib import Path
from typing import Any
from urllib.parse import quote

from bystander.archive.columns import Rowed, assembled
from bystander.archive.readonly import ReadOnlyCopy
from bystander.archive.timelines import unpacked_timeline
from bystander.design import ArmState, LookTaken, Measure, Record, RecordHead, Study, Timeline, from_plain, renamed
from bystander.errors import ArchiveError, UnknownRecordError

__all__ = ["EndedEarly", "Reader"]

Rows = Sequence[sqlite3.Row]

_RECORDS = "SELECT * FROM record ORDER BY id"
_DESCRIBED = {
    "arm": "SELECT * FROM arm WHERE record_id = ? ORDER BY position",
    "workload": "SELECT * FROM workload WHERE record_id = ? ORDER BY position",
    "measure": "SELECT * FROM measure WHERE record_id = ? ORDER BY position",
    "machine": "SELECT * FROM machine WHERE record_id = ? ORDER BY id",
    "trial_array": "SELECT * FROM trial_array WHERE record_id = ? ORDER BY id",
    "samples": "SELECT * FROM samples WHERE record_id = ? ORDER BY id",
    "look": "SELECT workload, arm, blocks, level, outcome FROM look WHERE record_id = ? ORDER BY id",
    "timeline": "SELECT trial_id, array_id, array_row, summary FROM timeline WHERE record_id = ? ORDER BY id",
}
_ALL_TIMELINES = "SELECT trial_id, array_id, array_row, phases FROM timeline WHERE record_id = ? ORDER BY id"
_TIMELINES = """
SELECT trial.arm, timeline.phases
FROM block JOIN attempt ON attempt.block_id = block.id JOIN trial ON trial.attempt_id = attempt.id
JOIN timeline ON timeline.trial_id = trial.id
WHERE block.record_id = ? AND block.workload = ? AND block.number = ? AND attempt.state IN ('whole', 'open')
ORDER BY trial.arm
"""
_IMPORTED_TIMELINES = """
SELECT trial_array.arm, trial_array.blocks, timeline.array_row, timeline.phases
FROM timeline JOIN trial_array ON timeline.array_id = trial_array.id
WHERE timeline.record_id = ? AND trial_array.workload = ? ORDER BY trial_array.arm
"""
_STATES = """
SELECT machine_state.machine_id, machine_state.facts FROM machine_state
JOIN machine ON machine_state.machine_id = machine.id WHERE machine.record_id = ? ORDER BY machine_state.id
"""
_BYTES = """
SELECT record.name, COALESCE((SELECT SUM(LENGTH(trial.readings)) FROM trial
         JOIN attempt ON trial.attempt_id = attempt.id JOIN block ON attempt.block_id = block.id
         WHERE block.record_id = record.id), 0)
     + COALESCE((SELECT SUM(LENGTH(readings) + 6 * 8 * trials) FROM trial_array WHERE record_id = record.id), 0)
     + COALESCE((SELECT SUM(LENGTH(readings)) FROM samples WHERE record_id = record.id), 0)
     + COALESCE((SELECT SUM(LENGTH(phases)) FROM timeline WHERE record_id = record.id), 0) AS bytes
FROM record ORDER BY record.id
"""
_TRIALS = """
SELECT block.workload, trial.arm, block.number AS block, trial."order", trial.status, trial.detail AS details,
       trial.limit_s, attempt.machine_id AS machine, trial.started_wall_s AS started_s,
       trial.readings, trial.answer, trial.excerpt, trial.id
FROM block JOIN attempt ON attempt.block_id = block.id JOIN trial ON trial.attempt_id = attempt.id
WHERE block.record_id = ? AND attempt.state IN ('whole', ?)
ORDER BY trial.id
"""


@dataclass(frozen=True)
class EndedEarly:
    """An observation that left no record: when (since 1970), of which study, and why, in a sentence."""

    wall_s: float
    study: str
    why: str


class Reader:
    """One archive file, open for reading."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._copy: ReadOnlyCopy | None = None
        self.open = path
        how = ""
        if not os.access(path.parent, os.W_OK):
            # There SQLite has no place for its shared memory. What is still in the log of a killed observation it
            # would not see either: then a private copy is read, which can also be brought up to date.
            self._copy = ReadOnlyCopy.of(path)
            self.open, how = (self._copy.path, "") if self._copy else (path, "?immutable=1")
        self._connection = sqlite3.connect(f"file:{quote(str(self.open.resolve()))}{how}", timeout=20, uri=True)
        self._connection.row_factory = sqlite3.Row

    @property
    def is_copy(self) -> bool:
        """Whether a private copy is read, since the archive lies where nothing can be written."""
        return self._copy is not None

    def close(self) -> None:
        """Give the connection back."""
        self._connection.close()
        if self._copy:
            self._copy.remove()

    def schema(self) -> int:
        """Return the number of the newest migration that was applied, 0 for an empty file."""
        there = self._rows("SELECT name FROM sqlite_master WHERE type = 'table' AND name = 'migration'")
        return int(self._rows("SELECT MAX(number) AS newest FROM migration")[0]["newest"] or 0) if there else 0

    def record_bytes(self) -> dict[str, int]:
        """Return, by record name, the bytes of its readings: what takes most of the room."""
        return {row["name"]: row["bytes"] for row in self._rows(_BYTES)}

    def _rows(self, query: str, *values: object) -> Rows:
        try:
            return self._connection.execute(query, values).fetchall()
        except sqlite3.DatabaseError as error:
            raise ArchiveError(
                f"the archive {self.path} cannot be read: {error}; bystander records mend saves what is whole in it"
            ) from error

    def ended_early(self) -> list[EndedEarly]:
        """Return the observations that ended before their first trial, the oldest first."""
        return [EndedEarly(**dict(row)) for row in self._rows("SELECT wall_s, study, why FROM ended_early ORDER BY id")]

    def heads(self) -> list[RecordHead]:
        """Return all records without their trials, the oldest first."""
        return [self._whole(row) for row in self._rows(_RECORDS)]

    def head(self, name: str | None = None) -> RecordHead:
        """Return one record without its trials; the newest by default."""
        return self._whole(self._find(name))

    def load(self, name: str | None = None, halves: bool = False, timelines: bool = False) -> Record:
        """Return a record with all trials of whole attempts; see `Archive.load`."""
        row = self._find(name)
        trials = self._rows(_TRIALS, row["id"], "open" if halves else "whole")
        arrays, samples, told = (
            self._rows(_DESCRIBED[table], row["id"]) for table in ("trial_array", "samples", "timeline")
        )
        states = [
            {"session": state["machine_id"], **json.loads(state["facts"])} for state in self._rows(_STATES, row["id"])
        ]
        phases = self._rows(_ALL_TIMELINES, row["id"]) if timelines else ()
        try:
            found = assembled(self._whole(row), Rowed(trials, arrays, samples, told, phases))
        except ValueError as error:
            raise self._damaged(row["name"], error) from error
        looks = tuple(LookTaken(**dict(look)) for look in self._rows(_DESCRIBED["look"], row["id"]))
        return replace(found, machine_states=states, looks=looks)

    def timelines(self, name: str | None, workload: int, block: int) -> dict[int, Timeline]:
        """Return, by arm, the phases of a block's trials, where any were told."""
        row = self._find(name)
        found = {one["arm"]: one["phases"] for one in self._rows(_TIMELINES, row["id"], workload, block)}
        for one in self._rows(_IMPORTED_TIMELINES, row["id"], workload):
            if int.from_bytes(one["blocks"][8 * one["array_row"] :][:8], "little", signed=True) == block:
                found[one["arm"]] = one["phases"]
        try:
            return {arm: unpacked_timeline(phases) for arm, phases in found.items()}
        except ValueError as error:
            raise self._damaged(row["name"], error) from error

    def _damaged(self, name: str, error: Exception) -> ArchiveError:
        return ArchiveError(f"the archive {self.path} is damaged in record {name}: {error}")

    def _whole(self, row: sqlite3.Row) -> RecordHead:
        try:
            return self._head(row)
        except (ValueError, TypeError) as error:
            raise self._damaged(row["name"], error) from error

    def _find(self, name: str | None) -> sqlite3.Row:
        """Return the row of a record by name, UUID or its beginning; the newest without a name."""
        rows = self._rows(_RECORDS)[::-1]
        if not rows:
            raise UnknownRecordError(f"{self.path} holds no record yet; bystander observe makes one")
        if name is None:
            return rows[0]
        for row in rows:
            if name in (row["name"], row["uuid"]):
                return row
        begins = [row for row in rows if len(name) >= 6 and row["uuid"].startswith(name)]
        if len(begins) == 1:
            return begins[0]
        near = get_close_matches(name, [row["name"] for row in rows], 1, 0.4) or [rows[0]["name"]]
        raise UnknownRecordError(f'there is no record "{name}" in {self.path}; did you mean "{near[0]}"?')

    def _head(self, row: sqlite3.Row) -> RecordHead:
        def described(table: str) -> Rows:
            return self._rows(_DESCRIBED[table], row["id"])

        def texts(table: str, column: str) -> list[Any]:
            return [json.loads(item[column]) for item in described(table)]

        return RecordHead(
            uuid=row["uuid"],
            name=row["name"],
            origin=row["origin"],
            state=row["state"],
            started_wall_s=row["started_wall_s"],
            study=renamed(from_plain(Study, json.loads(row["study"]))),
            study_folder=row["study_folder"],
            study_file=row["study_file"],
            provenance=row["provenance"],
            arms=tuple(from_plain(ArmState, state) for state in texts("arm", "state")),
            workload_keys=tuple(workload["key"] for workload in described("workload")),
            measures=tuple(from_plain(Measure, measure) for measure in texts("measure", "description")),
            machine=next(iter(texts("machine", "facts")), {}),
            version=row["version"],
            notes=tuple(json.loads(row["notes"])),
        )
