"""One archive file: records are begun, listed and read back."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from contextlib import AbstractContextManager
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

from bystander.archive.file.boundary import damaged, told_as_damage
from bystander.archive.file.place import on_a_full_disk, refuse_long, refuse_network, refuse_read_only
from bystander.archive.file.removed import identity, removed
from bystander.archive.file.versions import SCHEMA
from bystander.archive.reader import EndedEarly, Reader
from bystander.design import (
    ArmState,
    Evidence,
    MachineFacts,
    Record,
    RecordHead,
    Run,
    RunTrials,
    Study,
    TrialColumns,
    Whose,
)
from bystander.errors import ArchiveError
from bystander.files import make_private_folder, open_private_file

if TYPE_CHECKING:
    from sqlalchemy import Connection

    from bystander.archive.writer import RecordWriter

__all__ = ["Archive"]


class Archive:
    """An open archive; use it as a context.

    Parameters
    ----------
    path : Path
    create : bool
        Make the file, and its folder, when there is none.

    Raises
    ------
    ArchiveError
        When it cannot be opened, lies on a network file system, or is newer than this program.
    """

    def __init__(self, path: Path, create: bool = False) -> None:
        self.path = path
        self._writing: Connection | None = None
        if not path.exists() and not create:
            raise ArchiveError(f"there is no archive {path}; bystander observe makes one")
        refuse_network(path.resolve())
        refuse_long(path)
        if create:
            refuse_read_only(path)
        try:
            if create:
                make_private_folder(path.parent)
                open_private_file(path)
            self._reader = Reader(path)
            self._bring_up_to_date()
            self._identity = identity(path)
        except (sqlite3.Error, OSError, ValueError, TypeError, OverflowError) as error:
            reason = error.strerror if isinstance(error, OSError) else str(error)
            raise on_a_full_disk(path) or ArchiveError(f"{path} cannot be opened as an archive: {reason}") from error

    def _bring_up_to_date(self) -> None:
        found = self._reader.schema()
        if found == 0 and self._reader.holds_anything():
            self._reader.close()
            raise damaged(self.path, "it does not say which schema it has")
        if found > SCHEMA:
            self._reader.close()
            raise ArchiveError(
                f"the archive {self.path} was written by a newer Bystander (schema {found}, this one knows {SCHEMA}); "
                "use that one"
            )
        if found < SCHEMA:
            from bystander.archive.file.engine import migrate, open_engine

            if not self._reader.is_copy:
                refuse_read_only(self.path)
            migrate(open_engine(self._reader.open), found)

    def __enter__(self) -> Archive:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._reader.close()
        if self._writing is not None:
            self._writing.close()

    @property
    def _connection(self) -> Connection:
        """The connection that writes, opened when it is first needed: reading alone starts much faster."""
        if self._writing is None:
            refuse_read_only(self.path)
            from bystander.archive.file.engine import open_engine

            self._writing = open_engine(self.path).connect()
        return self._writing

    def still_there(self) -> None:
        """Raise ArchiveError when the file is not the one that was opened; what it held is saved beside it first."""
        if identity(self.path) != self._identity:
            driver = self._writing.connection.driver_connection if self._writing is not None else None
            raise removed(self.path, driver)

    def atomic(self) -> AbstractContextManager[Connection]:
        """Return a context in which everything that is written comes about together or not at all."""
        from bystander.archive.file.engine import atomic

        return atomic(self._connection)

    def begin(self, head: RecordHead) -> tuple[RecordWriter, str]:
        """Begin a record and return the writer of its timed run, and the name that it was given.

        The study must hold the seed.

        Raises
        ------
        ArchiveError
            When a record of that UUID is there already, or the file cannot be written.
        """
        from bystander.archive.writer import begin_record

        return begin_record(self._connection, head)

    def note_early_end(self, study: str, why: str) -> None:
        """Write down that an observation ended before its first trial, and why."""
        from bystander.archive.care import add_early_end

        add_early_end(self._connection, study, why)

    @told_as_damage
    def ended_early(self) -> list[EndedEarly]:
        """Return the observations that ended before their first trial, the oldest first."""
        return self._reader.ended_early()

    def resume(self, head: RecordHead, machine: MachineFacts, number: int | None = None) -> RecordWriter:
        """Return the writer of a run that was not finished, the timed one by default; its half blocks become void."""
        from bystander.archive.writer import resume_record

        return resume_record(self._connection, head, machine, number)

    def writer(self, head: RecordHead) -> RecordWriter:
        """Return a writer of a record's timed run that takes blocks in; it begins nothing."""
        from bystander.archive.writer import record_writer

        return record_writer(self._connection, head)

    def begin_run(self, head: RecordHead, run: Run, machine: MachineFacts) -> RecordWriter:
        """Begin one more run of a record and return its writer; its number must be free."""
        from bystander.archive.writer import begin_run

        return begin_run(self._connection, head, run, machine)

    def note(self, head: RecordHead, text: str) -> None:
        """Add a note to a record, which every output repeats."""
        from bystander.archive.care import add_note

        add_note(self._connection, head.uuid, text)

    def add_arm(self, head: RecordHead, study: Study, state: ArmState) -> None:
        """Add an arm that was made while a record runs, the last of those of its study."""
        from bystander.archive.added import add_arm

        add_arm(self._connection, head.uuid, study, state)

    def set_options(self, head: RecordHead, number: int, options: Mapping[str, Any]) -> None:
        """Write down anew what a run was asked for besides, and what came of it."""
        from bystander.archive.added import set_options

        set_options(self._connection, head.uuid, number, options)

    def add_trials(self, head: RecordHead, number: int, trials: TrialColumns) -> None:
        """Add the trials of a run that is not timed, whose whole blocks are there already: of what is taken in."""
        from bystander.archive.added import add_trials

        add_trials(self._connection, head.uuid, number, trials)

    def remove(self, head: RecordHead) -> None:
        """Remove a record and everything that belongs to it."""
        from bystander.archive.care import remove_record

        remove_record(self._connection, head.uuid)

    @told_as_damage
    def record_bytes(self) -> dict[str, tuple[int, int]]:
        """Return, by record name, the bytes of its readings and of its evidence."""
        return self._reader.record_bytes()

    @told_as_damage
    def evidence_file_bytes(self) -> int:
        """Return the bytes of large evidence in files beside the archive."""
        return self._reader.evidence_file_bytes()

    @told_as_damage
    def heads(self) -> list[RecordHead]:
        """Return all records without their trials, the oldest first."""
        return self._reader.heads()

    @told_as_damage
    def head(self, name: str | None = None) -> RecordHead:
        """Return one record without its trials; the newest by default."""
        return self._reader.head(name)

    @told_as_damage
    def load(self, name: str | None = None, halves: bool = False, payloads: bool = False) -> Record:
        """Return a record with all trials of the whole attempts of its timed run.

        Parameters
        ----------
        halves : bool
            Those of open attempts too.
        payloads : bool
            What all evidence holds too, which may be large.
        """
        return self._reader.load(name, halves, payloads)

    @told_as_damage
    def load_run(self, name: str | None, number: int, payloads: bool = False) -> RunTrials:
        """Return the trials of a run of another purpose; raise UsageError when the record has no such run."""
        return self._reader.load_run(name, number, payloads)

    @told_as_damage
    def run_evidence(self, name: str | None, number: int, kind: str | None = None) -> list[tuple[Whose, Evidence]]:
        """Return all evidence of a run of any purpose, of its trials and of itself, with what it holds.

        Parameters
        ----------
        kind : str, optional
            Only this kind.
        """
        return self._reader.run_evidence(name, number, kind)

    @told_as_damage
    def evidence(self, name: str | None, kind: str, workload: int, block: int) -> dict[int, Evidence]:
        """Return, by arm, the evidence of a kind of a block's trials, where there is any."""
        return self._reader.evidence(name, kind, workload, block)
