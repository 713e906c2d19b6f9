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

from bystander.archive.columns import TrialRows, assembled
from bystander.archive.file.boundary import damaged
from bystander.archive.file.evidence_files import EvidenceFiles
from bystander.archive.file.place import LEAST_ROOM, on_a_full_disk
from bystander.archive.file.readonly import ReadOnlyCopy
from bystander.design import (
    TIMED,
    ArmState,
    BlockHead,
    Evidence,
    LookTaken,
    MachineFacts,
    MachineState,
    Measure,
    Origin,
    Payload,
    Provenance,
    Record,
    RecordHead,
    Run,
    RunTrials,
    State,
    TrialColumns,
    Whose,
    from_plain,
    mending,
    study_from_plain,
)
from bystander.errors import ArchiveError, BystanderError, UnknownRecordError, UsageError
from bystander.files import lacks_room

__all__ = ["EndedEarly", "Reader"]

SqlRows = Sequence[sqlite3.Row]

_RECORDS = "SELECT * FROM record ORDER BY id"
_DESCRIBED = {
    "arm": "SELECT * FROM arm WHERE record_id = ? ORDER BY position",
    "workload": "SELECT * FROM workload WHERE record_id = ? ORDER BY position",
    "measure": "SELECT * FROM measure WHERE record_id = ? ORDER BY position",
    "machine": "SELECT * FROM machine WHERE record_id = ? ORDER BY id",
    "run": "SELECT * FROM run WHERE record_id = ? ORDER BY number",
    "trial_array": "SELECT * FROM trial_array WHERE record_id = ? ORDER BY id",
    "samples": "SELECT * FROM samples WHERE record_id = ? ORDER BY id",
    "look": "SELECT workload, arm, reference, blocks, level, outcome FROM look WHERE record_id = ? ORDER BY id",
}
# Payloads may be large: they are read when they are asked for.
_EVIDENCE = """
SELECT evidence.id, trial_id, array_id, array_row, run_id, workload, arm, kind, version, summary, codec, digest, bytes,
       {payload} AS payload
FROM evidence WHERE record_id = ? ORDER BY id
"""
_OF_BLOCK = """
SELECT trial.arm AS of_arm, evidence.* FROM block JOIN attempt ON attempt.block_id = block.id
JOIN trial ON trial.attempt_id = attempt.id JOIN evidence ON evidence.trial_id = trial.id
WHERE block.run_id IN (SELECT id FROM run WHERE record_id = ? AND purpose = ?) AND block.workload = ?
      AND block.number = ? AND attempt.state IN ('whole', 'open') AND evidence.kind = ?
ORDER BY trial.arm
"""
_OF_IMPORTED = """
SELECT trial_array.arm AS of_arm, trial_array.blocks, evidence.* FROM evidence
JOIN trial_array ON evidence.array_id = trial_array.id
WHERE evidence.record_id = ? AND trial_array.workload = ? AND evidence.kind = ? ORDER BY trial_array.arm
"""
_STATES = """
SELECT machine_state.machine_id, machine_state.facts FROM machine_state
JOIN machine ON machine_state.machine_id = machine.id WHERE machine.record_id = ? ORDER BY machine_state.id
"""
_BLOCKS = """
SELECT run.number AS run, block.workload, block.number, attempt.number AS attempt, attempt.machine_id,
       attempt.conditions
FROM block JOIN run ON block.run_id = run.id JOIN attempt ON attempt.block_id = block.id
WHERE block.record_id = ? AND attempt.state = 'whole' ORDER BY attempt.id
"""
_BYTES = """
SELECT record.name, COALESCE((SELECT SUM(LENGTH(trial.readings)) FROM trial
         JOIN attempt ON trial.attempt_id = attempt.id JOIN block ON attempt.block_id = block.id
         WHERE block.record_id = record.id), 0)
     + COALESCE((SELECT SUM(LENGTH(readings) + 6 * 8 * trials) FROM trial_array WHERE record_id = record.id), 0)
     + COALESCE((SELECT SUM(LENGTH(readings)) FROM samples WHERE record_id = record.id), 0) AS bytes,
       COALESCE((SELECT SUM(bytes) FROM evidence WHERE record_id = record.id), 0) AS evidence
FROM record ORDER BY record.id
"""
_TRIALS = """
SELECT block.workload, trial.arm, block.number AS block, trial."order", trial.status, trial.detail AS details,
       trial.limit_s, attempt.machine_id AS machine, trial.started_wall_s AS started_s,
       trial.readings, trial.answer, trial.excerpt, trial.id
FROM block JOIN attempt ON attempt.block_id = block.id JOIN trial ON trial.attempt_id = attempt.id
WHERE block.run_id = ? AND attempt.state IN ('whole', ?)
ORDER BY trial.id
"""
_OF_RUN = """
SELECT trial.arm AS of_arm, block.workload AS of_workload, evidence.* FROM block
JOIN attempt ON attempt.block_id = block.id JOIN trial ON trial.attempt_id = attempt.id
JOIN evidence ON evidence.trial_id = trial.id
WHERE block.run_id = ? AND attempt.state IN ('whole', 'open') AND evidence.kind = COALESCE(?, evidence.kind)
UNION ALL SELECT arm, workload, evidence.* FROM evidence
WHERE run_id = ? AND kind = COALESCE(?, kind) ORDER BY evidence.id
"""
_RUN = "SELECT id FROM run WHERE record_id = ? AND number = ?"


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
        self._files = EvidenceFiles(path)
        self._copy: ReadOnlyCopy | None = None
        self.open = path
        how = ""
        if not os.access(path.parent, os.W_OK) or lacks_room(path.parent, LEAST_ROOM):
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

    def holds_anything(self) -> bool:
        """Whether the file is more than a database in which nothing was made yet."""
        pages = self._rows("PRAGMA page_count")[0][0]
        return pages > 1 or bool(self._rows("SELECT 1 FROM sqlite_master LIMIT 1"))

    def _empty_and_whole(self) -> bool:
        """Whether no record is there because none was made; a page that is damaged may hide all of them."""
        if any(self._rows(f"SELECT 1 FROM {table} LIMIT 1") for table in ("run", "block", "trial", "arm")):
            return False
        return [row[0] for row in self._rows("PRAGMA quick_check(1)")] == ["ok"]

    def record_bytes(self) -> dict[str, tuple[int, int]]:
        """Return, by record name, the bytes of its readings and those of its evidence: what takes most of the room."""
        return {row["name"]: (row["bytes"], row["evidence"]) for row in self._rows(_BYTES)}

    def evidence_file_bytes(self) -> int:
        """Return the bytes of large evidence in files beside the archive."""
        return sum(file.stat().st_size for file in self._files)

    def _rows(self, query: str, *values: object) -> SqlRows:
        try:
            return self._connection.execute(query, values).fetchall()
        except sqlite3.DatabaseError as error:
            raise on_a_full_disk(self.path) or ArchiveError(
                f"the archive {self.path} cannot be read: {error}; {mending(self.path)} saves what is whole in it"
            ) from error

    def ended_early(self) -> list[EndedEarly]:
        """Return the observations that ended before their first trial, the oldest first."""
        return [EndedEarly(**dict(row)) for row in self._rows("SELECT wall_s, study, why FROM ended_early ORDER BY id")]

    def heads(self) -> list[RecordHead]:
        """Return all records without their trials, the oldest first."""
        return [self._whole(row) for row in self._records()]

    def _records(self) -> SqlRows:
        rows = self._rows(_RECORDS)
        if not rows and not self._empty_and_whole():
            raise damaged(self.path, "its records cannot be found")
        return rows

    def head(self, name: str | None = None) -> RecordHead:
        """Return one record without its trials; the newest by default."""
        return self._whole(self._find(name))

    def load(self, name: str | None = None, halves: bool = False, payloads: bool = False) -> Record:
        """Return a record with all trials of its timed run's whole attempts; see `Archive.load`."""
        row = self._find(name)
        head = self._whole(row)
        found = self._assembled(row, head, head.timed_run, halves, payloads)
        try:
            states = [
                MachineState.of({"session": state["machine_id"], **json.loads(state["facts"])})
                for state in self._rows(_STATES, row["id"])
            ]
            looks = tuple(from_plain(LookTaken, dict(look)) for look in self._rows(_DESCRIBED["look"], row["id"]))
            blocks = self._blocks(row)
        except (ValueError, TypeError, KeyError) as error:
            raise self._damaged(row["name"], error) from error
        return replace(found, machine_states=states, looks=looks, blocks=blocks)

    def load_run(self, name: str | None, number: int, payloads: bool = False) -> RunTrials:
        """Return the trials of one run of a record that is not timed; see `Archive.load_run`."""
        row = self._find(name)
        head = self._whole(row)
        run = next((run for run in head.runs if run.number == number), None)
        if run is None or run.purpose == TIMED:
            raise UsageError(f"record {head.name} has no run {number} beside its timed one")
        found = self._assembled(row, head, run, halves=False, payloads=payloads)
        trials = TrialColumns(**{name: getattr(found.trials, name) for name in TrialColumns.__dataclass_fields__})
        blocks = tuple(block for block in self._blocks(row) if block.run == number)
        return RunTrials(head, run, blocks, trials, found.evidence)

    def _assembled(self, row: sqlite3.Row, head: RecordHead, run: Run, halves: bool, payloads: bool) -> Record:
        found = self._rows(_RUN, row["id"], run.number)
        trials = self._rows(_TRIALS, found[0]["id"], "open" if halves else "whole") if found else ()
        arrays, samples = (self._rows(_DESCRIBED[table], row["id"]) for table in ("trial_array", "samples"))
        rows = self._rows(_EVIDENCE.format(payload="payload" if payloads else "NULL"), row["id"])
        try:
            evidence = [(one, self._packet(one, payloads)) for one in rows]
            machines = {machine["id"]: i for i, machine in enumerate(self._rows(_DESCRIBED["machine"], row["id"]))}
            mine = TrialRows(trials, arrays if run.purpose == TIMED else (), samples, evidence, machines)
            record = assembled(head, mine)
        except (ValueError, KeyError, TypeError) as error:
            raise self._damaged(row["name"], error) from error
        numbers = {one["id"]: one["number"] for one in self._rows(_DESCRIBED["run"], row["id"])}
        of_runs: dict[Whose, tuple[Evidence, ...]] = {}
        for one, packet in evidence:
            if one["run_id"] is not None:
                whose = Whose(numbers[one["run_id"]], one["workload"], one["arm"])
                of_runs[whose] = (*of_runs.get(whose, ()), packet)
        return replace(record, of_runs=of_runs)

    def _packet(self, row: sqlite3.Row, payload: bool) -> Evidence:
        """Return a packet of evidence, with what it holds where that is asked for."""
        held = None
        if payload and row["payload"] is not None:
            held = Payload(row["payload"], row["codec"])
            if held.digest != row["digest"]:
                raise ValueError(f"evidence {row['kind']} is not what was written")
        elif payload:
            held = self._files.read(row["digest"], row["codec"])
        return Evidence(row["kind"], row["version"], json.loads(row["summary"]), held)

    def _blocks(self, row: sqlite3.Row) -> tuple[BlockHead, ...]:
        machines = {machine["id"]: i for i, machine in enumerate(self._rows(_DESCRIBED["machine"], row["id"]))}
        return tuple(
            BlockHead(
                one["run"], one["workload"], one["number"], one["attempt"], machines[one["machine_id"]],
                json.loads(one["conditions"] or "{}"),
            )
            for one in self._rows(_BLOCKS, row["id"])
        )  # fmt: skip

    def evidence(self, name: str | None, kind: str, workload: int, block: int) -> dict[int, Evidence]:
        """Return, by arm, the evidence of a kind of a timed block's trials, where there is any."""
        row = self._find(name)
        found = {one["of_arm"]: one for one in self._rows(_OF_BLOCK, row["id"], TIMED, workload, block, kind)}
        for one in self._rows(_OF_IMPORTED, row["id"], workload, kind):
            if int.from_bytes(one["blocks"][8 * one["array_row"] :][:8], "little", signed=True) == block:
                found[one["of_arm"]] = one
        try:
            return {arm: self._packet(one, payload=True) for arm, one in found.items()}
        except ValueError as error:
            raise self._damaged(row["name"], error) from error

    def run_evidence(self, name: str | None, number: int, kind: str | None = None) -> list[tuple[Whose, Evidence]]:
        """Return all evidence of a run, of its trials and of itself, with what it holds; of one kind if it is given."""
        row = self._find(name)
        found = self._rows(_RUN, row["id"], number)
        rows = self._rows(_OF_RUN, found[0]["id"], kind, found[0]["id"], kind) if found else ()
        try:
            return [(Whose(number, one["of_workload"], one["of_arm"]), self._packet(one, payload=True)) for one in rows]
        except ValueError as error:
            raise self._damaged(row["name"], error) from error

    def _damaged(self, name: str, error: Exception) -> BystanderError:
        return damaged(self.path, error, name)

    def _whole(self, row: sqlite3.Row) -> RecordHead:
        try:
            return self._head(row)
        except (ValueError, TypeError) as error:
            raise self._damaged(row["name"], error) from error

    def _find(self, name: str | None) -> sqlite3.Row:
        """Return the row of a record by name, UUID or its beginning; the newest without a name."""
        rows = self._records()[::-1]
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
        def described(table: str) -> SqlRows:
            return self._rows(_DESCRIBED[table], row["id"])

        def texts(table: str, column: str) -> list[Any]:
            return [json.loads(item[column]) for item in described(table)]

        machines = described("machine")
        places = {machine["id"]: i for i, machine in enumerate(machines)}
        return RecordHead(
            uuid=row["uuid"],
            name=row["name"],
            origin=Origin(row["origin"]),
            state=State(row["state"]),
            started_wall_s=row["started_wall_s"],
            study=study_from_plain(json.loads(row["study"])),
            study_folder=row["study_folder"],
            study_file=row["study_file"],
            provenance=Provenance(row["provenance"]),
            arms=tuple(from_plain(ArmState, state) for state in texts("arm", "state")),
            workload_keys=tuple(workload["key"] for workload in described("workload")),
            measures=tuple(from_plain(Measure, measure) for measure in texts("measure", "description")),
            machines=tuple(MachineFacts.of(json.loads(machine["facts"])) for machine in machines),
            version=row["version"],
            notes=tuple(json.loads(row["notes"])),
            runs=tuple(_run(run, places) for run in described("run")),
        )


def _run(row: sqlite3.Row, machines: dict[int, int]) -> Run:
    return Run(
        row["number"], row["purpose"], row["seed"], row["order"], machines.get(row["machine_id"], 0),
        json.loads(row["options"]), row["began_wall_s"], row["ended_wall_s"], State(row["state"]),
    )  # fmt: skip
