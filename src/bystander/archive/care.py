"""Care for an archive: notes, removal, size, and what can be saved from a damaged one."""

from __future__ import annotations

import json
import sqlite3
import time
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import Connection, Table, select

from bystander.archive.engine import atomic, migrate, open_engine
from bystander.archive.place import refuse_read_only
from bystander.archive.schema import allow_doubles, forbid_doubles, tables
from bystander.errors import ArchiveError

__all__ = ["Mended", "add_early_end", "add_note", "compact", "mend", "remove_record"]

_T = tables.tables
_BEYOND = 1_000_000  # rows of a table are looked for up to here behind a damaged place
_STRIDE = 64


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
            t["timeline"].c.record_id == record,
            t["samples"].c.record_id == record,
            t["trial_array"].c.record_id == record,
            t["trial"].c.attempt_id.in_(attempts),
            t["attempt"].c.block_id.in_(blocks),
            t["block"].c.record_id == record,
            t["machine_state"].c.machine_id.in_(machines),
            t["machine"].c.record_id == record,
            t["measure"].c.record_id == record,
            t["workload"].c.record_id == record,
            t["arm"].c.record_id == record,
            t["record"].c.id == record,
        ):
            connection.execute(condition.left.table.delete().where(condition))


def compact(path: Path) -> tuple[int, int]:
    """Give the room of removed records back; return the file's bytes before and after.

    Raises
    ------
    ArchiveError
        While something else uses the archive, or when the disk has no room for a copy.
    """
    refuse_read_only(path)
    before = path.stat().st_size
    try:
        with closing(sqlite3.connect(path, timeout=5, isolation_level=None)) as connection:
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            connection.execute("VACUUM")
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    except sqlite3.Error as error:
        raise ArchiveError(f"the archive {path} cannot be compacted now: {error}") from error
    return before, path.stat().st_size


@dataclass(frozen=True)
class Mended:
    """What was saved.

    Attributes
    ----------
    rows : dict
        By table.
    gaps : int
        Stretches of rows that could not be read.
    doubles : int
        Trials of blocks that had run twice: kept, but void.
    orphans : int
        Rows that belonged to nothing any more, which were left behind.
    """

    rows: dict[str, int]
    gaps: int
    doubles: int = 0
    orphans: int = 0


def mend(damaged: Path, target: Path) -> Mended:
    """Copy every row that can be read from a damaged archive into a new one.

    Rows are read one after another by their number; where a page is damaged, reading goes on behind it.
    Of a block that ran twice the first whole attempt counts, and the other is void. Rows whose parents were
    lost are left behind. No record that was mended is ever resumed.

    Raises
    ------
    ArchiveError
        When the target is there already, or nothing at all can be read.
    """
    if target.exists():
        raise ArchiveError(f"{target} is there already; name another file")
    engine = open_engine(target)
    migrate(engine, 0)
    with engine.connect() as connection, atomic(connection):
        allow_doubles(connection)
    rows, gaps = {}, 0
    with (
        closing(sqlite3.connect(f"file:{damaged}?mode=ro", uri=True)) as source,
        closing(sqlite3.connect(target, isolation_level=None)) as saved,
    ):
        source.row_factory = sqlite3.Row
        for table in tables.sorted_tables:
            if table.name != "migration":
                columns = _columns(source, table)
                rows[table.name], lost = _copied(source, saved, table.name, columns) if columns else (0, 0)
                gaps += lost
    if not rows["record"]:
        target.unlink()
        raise ArchiveError(f"nothing can be read from {damaged}; it holds no record that is whole")
    with engine.connect() as connection, atomic(connection):
        doubles, orphans = _cured(connection)
        forbid_doubles(connection)
    return Mended(rows, gaps, doubles, orphans)


_BELONGS = (  # child, parent and the column that names it, from the top down
    ("machine", "record", "record_id"), ("block", "record", "record_id"), ("attempt", "block", "block_id"),
    ("trial", "attempt", "attempt_id"), ("samples", "trial", "trial_id"), ("timeline", "trial", "trial_id"),
    ("trial_array", "record", "record_id"), ("samples", "trial_array", "array_id"),
    ("timeline", "trial_array", "array_id"), ("look", "record", "record_id"),
    ("machine_state", "machine", "machine_id"),
)  # fmt: skip


def _cured(connection: Connection) -> tuple[int, int]:
    """Void what ran twice, remove what belongs to nothing, and mark every record; return trials and rows concerned."""
    run = connection.exec_driver_sql
    orphans = 0
    for child, parent, key in _BELONGS:
        lost = f"{key} IS NOT NULL AND {key} NOT IN (SELECT id FROM {parent})"
        orphans += run(f"DELETE FROM {child} WHERE {lost}").rowcount
    doubled = run(
        "SELECT id, attempt_id FROM trial WHERE id NOT IN (SELECT MIN(id) FROM trial GROUP BY attempt_id, arm) "
        "ORDER BY id"
    ).all()
    for trial, attempt in doubled:  # each into a void attempt of its own: it is kept, and never paired
        run(
            "INSERT INTO attempt (block_id, number, machine_id, state, conditions) SELECT block_id, "
            "(SELECT MAX(number) + 1 FROM attempt AS other WHERE other.block_id = attempt.block_id), machine_id, "
            "'void', conditions FROM attempt WHERE id = ?", (attempt,),
        )  # fmt: skip
        run("UPDATE trial SET attempt_id = last_insert_rowid() WHERE id = ?", (trial,))
    again = "state = 'whole' AND id NOT IN (SELECT MIN(id) FROM attempt WHERE state = 'whole' GROUP BY block_id)"
    void = run(f"SELECT COUNT(*) FROM trial WHERE attempt_id IN (SELECT id FROM attempt WHERE {again})").scalar_one()
    run(f"UPDATE attempt SET state = 'void' WHERE {again}")
    run("UPDATE record SET provenance = 'mended' WHERE provenance = ''")
    return len(doubled) + int(void), orphans


def _columns(source: sqlite3.Connection, table: Table) -> list[str]:
    """Return the columns of a table that the damaged archive has: an older one has fewer; all when nobody can tell."""
    names = [column.name for column in table.columns]
    try:
        there = {row["name"] for row in source.execute(f'PRAGMA table_info("{table.name}")')}
    except sqlite3.DatabaseError:
        return names
    return [name for name in names if name in there]


def _copied(source: sqlite3.Connection, saved: sqlite3.Connection, table: str, columns: list[str]) -> tuple[int, int]:
    """Copy one table and return its rows and the gaps in it."""
    quoted = ", ".join(f'"{column}"' for column in columns)
    marks = ", ".join("?" * len(columns))
    query = f'SELECT rowid AS row_number, {quoted} FROM "{table}" WHERE rowid > ? ORDER BY rowid LIMIT {_STRIDE}'
    insert = f'INSERT OR IGNORE INTO "{table}" ({quoted}) VALUES ({marks})'
    at, count, gaps, in_gap, last_good = 0, 0, 0, False, 0
    saved.execute("BEGIN")
    while at < last_good + _BEYOND:
        size = 1 if in_gap else _STRIDE
        try:
            found = source.execute(query.replace(f"LIMIT {_STRIDE}", f"LIMIT {size}"), (at,)).fetchall()
        except sqlite3.DatabaseError:
            gaps += not in_gap
            at += 1 if size == 1 and at < last_good + 4 * _STRIDE else _STRIDE
            in_gap = True
            continue
        if not found:
            break
        for row in found:
            with suppress(sqlite3.Error):
                saved.execute(insert, tuple(row)[1:])
                count += 1
        at = last_good = found[-1]["row_number"]
        in_gap = False
    saved.execute("COMMIT")
    return count, gaps
