"""Care for an archive: notes, removal, and room given back."""

from __future__ import annotations

import json
import sqlite3
import time
from contextlib import closing
from pathlib import Path

from sqlalchemy import Connection, select

from bystander.archive.file.engine import atomic
from bystander.archive.file.evidence_files import EvidenceFiles
from bystander.archive.file.place import on_a_full_disk, refuse_read_only
from bystander.archive.tables.schema import tables
from bystander.errors import ArchiveError

__all__ = ["add_early_end", "add_note", "compact", "remove_record"]

_T = tables.tables


def add_note(connection: Connection, uuid: str, text: str) -> None:
    """Add a note to a record, which every output repeats."""
    record = _T["record"]
    with atomic(connection):
        kept = connection.execute(select(record.c.notes).where(record.c.uuid == uuid)).scalar_one()
        notes = json.dumps([*json.loads(kept), text])
        connection.execute(record.update().where(record.c.uuid == uuid).values(notes=notes))


def add_early_end(connection: Connection, study: str, why: str) -> None:
    """Write down that an observation ended before its first trial."""
    with atomic(connection):
        connection.execute(_T["ended_early"].insert().values(wall_s=time.time(), study=study, why=why))


def remove_record(connection: Connection, uuid: str) -> None:
    """Remove a record and everything that belongs to it."""
    t = _T
    with atomic(connection):
        record = connection.execute(select(t["record"].c.id).where(t["record"].c.uuid == uuid)).scalar_one()
        blocks = select(t["block"].c.id).where(t["block"].c.record_id == record)
        attempts = select(t["attempt"].c.id).where(t["attempt"].c.block_id.in_(blocks))
        machines = select(t["machine"].c.id).where(t["machine"].c.record_id == record)
        for condition in (
            t["look"].c.record_id == record,
            t["evidence"].c.record_id == record,
            t["samples"].c.record_id == record,
            t["trial_array"].c.record_id == record,
            t["trial"].c.attempt_id.in_(attempts),
            t["attempt"].c.block_id.in_(blocks),
            t["block"].c.record_id == record,
            t["run"].c.record_id == record,
            t["machine_state"].c.machine_id.in_(machines),
            t["machine"].c.record_id == record,
            t["measure"].c.record_id == record,
            t["workload"].c.record_id == record,
            t["arm"].c.record_id == record,
            t["record"].c.id == record,
        ):
            connection.execute(condition.left.table.delete().where(condition))


def compact(path: Path) -> tuple[int, int]:
    """Give the room of removed records back; return the bytes of the file and its evidence before and after.

    Raises
    ------
    ArchiveError
        While something else uses the archive, or when the disk has no room for a copy.
    """
    refuse_read_only(path)
    before, files = path.stat().st_size, EvidenceFiles(path)
    held = _held(files)
    try:
        with closing(sqlite3.connect(path, timeout=5, isolation_level=None)) as connection:
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            # Nothing is begun meanwhile whose row is not there yet: the lock is held until the files are gone.
            connection.execute("BEGIN IMMEDIATE")
            named = connection.execute("SELECT digest FROM evidence WHERE payload IS NULL").fetchall()
            files.keep_only(digest for (digest,) in named)
            connection.execute("COMMIT")
            connection.execute("VACUUM")
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    except sqlite3.Error as error:
        raise on_a_full_disk(path) or ArchiveError(f"the archive {path} cannot be compacted now: {error}") from error
    return before + held, path.stat().st_size + _held(files)


def _held(files: EvidenceFiles) -> int:
    return sum(file.stat().st_size for file in files)
