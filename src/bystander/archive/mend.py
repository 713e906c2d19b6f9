"""What can be saved of a damaged archive."""

from __future__ import annotations

import hashlib
import sqlite3
import time
from collections.abc import Callable, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Table, select

from bystander.archive.file.engine import atomic, migrate, open_engine
from bystander.archive.file.evidence_files import EvidenceFiles
from bystander.archive.file.place import on_a_full_disk
from bystander.archive.tables.schema import allow_doubles, forbid_doubles, tables
from bystander.errors import ArchiveError, NoSpaceError

__all__ = ["Mended", "mend"]

_T = tables.tables
_BEYOND = 2**24  # numbers: rows of a table are looked for so far behind a damaged place
_QUERY_S, _STEPS = 1.0, 10_000  # a query that takes longer has lost its way; looked at every so many steps
_STRIDE = 64


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
    evidence_lost : int
        Packets of evidence whose file is gone or damaged, which were left behind.
    """

    rows: dict[str, int]
    gaps: int
    doubles: int = 0
    orphans: int = 0
    evidence_lost: int = 0


def _untold(_table: str, _rows: int) -> None:
    pass


def mend(damaged: Path, target: Path, told: Callable[[str, int], None] = _untold) -> Mended:
    """Copy every row that can be read from a damaged archive into a new one.

    Rows are read one after another by their number; where a page is damaged, reading goes on behind it.
    Of a block that ran twice the first whole attempt counts, and the other is void. Rows whose parents were
    lost are left behind. No record that was mended is ever resumed.

    Parameters
    ----------
    told : callable
        Is given the table that is copied, and how many of its rows have been.

    Raises
    ------
    ArchiveError
        When the target is there already, or nothing at all can be read.
    """
    if target.exists():
        raise ArchiveError(f"{target} is there already; name another file")
    try:
        return _mended(damaged, target, told)
    except (sqlite3.OperationalError, NoSpaceError) as error:
        full = on_a_full_disk(target)
        for end in ("", "-wal", "-shm"):
            target.with_name(target.name + end).unlink(missing_ok=True)
        raise full or ArchiveError(f"{target} cannot be written: {error}") from error


def _mended(damaged: Path, target: Path, told: Callable[[str, int], None]) -> Mended:
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
        for way in _ways(source):
            rows[way.target], lost = _copied(source, saved, way, told) if way.columns else (0, 0)
            gaps += lost
        if not _columns(source, _T["run"]):
            saved.execute(_ONE_RUN)
    if not rows["record"]:
        target.unlink()
        raise ArchiveError(f"nothing can be read from {damaged}; it holds no record that is whole")
    with engine.connect() as connection, atomic(connection):
        doubles, orphans = _cured(connection)
        lost = _with_files(connection, EvidenceFiles(damaged), EvidenceFiles(target))
        forbid_doubles(connection)
    return Mended(rows, gaps, doubles, orphans, lost)


def _with_files(connection: Connection, source: EvidenceFiles, target: EvidenceFiles) -> int:
    """Copy the files of evidence, and return how many packets were left behind as theirs could not be read."""
    lost = 0
    table = _T["evidence"]
    for row in connection.execute(select(table).where(table.c.payload.is_(None))).all():
        try:
            target.keep(source.read(row.digest, row.codec))
        except ArchiveError:
            connection.execute(table.delete().where(table.c.id == row.id))
            lost += 1
    return lost


_BELONGS = (  # child, parent and the column that names it, from the top down
    ("machine", "record", "record_id"), ("run", "record", "record_id"), ("block", "run", "run_id"),
    ("attempt", "block", "block_id"), ("trial", "attempt", "attempt_id"), ("samples", "trial", "trial_id"),
    ("evidence", "trial", "trial_id"), ("trial_array", "record", "record_id"), ("samples", "trial_array", "array_id"),
    ("evidence", "trial_array", "array_id"), ("evidence", "run", "run_id"), ("look", "record", "record_id"),
    ("machine_state", "machine", "machine_id"),
)  # fmt: skip


def _cured(connection: Connection) -> tuple[int, int]:
    """Void what ran twice, remove what belongs to nothing, and mark every record; return trials and rows concerned."""
    run = connection.exec_driver_sql
    run("PRAGMA defer_foreign_keys = ON")  # a parent that is left behind has its children for a moment longer
    orphans = 0
    for child, parent, key in _BELONGS:
        lost = f"{key} IS NOT NULL AND {key} NOT IN (SELECT id FROM {parent})"
        orphans += run(f"DELETE FROM {child} WHERE {lost}").rowcount
    while astray := {(row[0], row[1]) for row in run("PRAGMA foreign_key_check").all() if row[1] is not None}:
        for table, number in astray:
            orphans += run(f'DELETE FROM "{table}" WHERE rowid = ?', (number,)).rowcount
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


@dataclass(frozen=True)
class _Way:
    """How the rows of a table are copied.

    Attributes
    ----------
    columns : sequence of str
        Expressions of what is read, by the names under which they are written; empty where there is no such table.
    turned : callable
        From a row as it is read to what is written.
    """

    source: str
    target: str
    columns: Sequence[tuple[str, str]]
    turned: Callable[[Sequence[Any]], Sequence[Any]] = tuple


# Files of before runs: each record was one timed run, which takes the record's own number here.
_ONE_RUN = (
    'INSERT OR IGNORE INTO run (id, record_id, number, purpose, seed, "order", options, began_wall_s, ended_wall_s, '
    "state) SELECT id, id, 0, 'timed', seed, 'permutation', '{}', started_wall_s, ended_wall_s, state FROM record"
)
_TIMELINE = ("record_id", "trial_id", "array_id", "array_row", "summary", "phases")
_EARLIER = {"block": ("run_id", "record_id"), "look": ("reference", "0")}


def _evidence_of(row: Sequence[Any]) -> Sequence[Any]:
    """Return the evidence that a timeline of before is."""
    *place, summary, phases = row
    return (*place, summary, "timeline", 1, "zlib", hashlib.sha256(phases).hexdigest(), len(phases), phases)


def _ways(source: sqlite3.Connection) -> list[_Way]:
    """Return how each table is copied, parents before children; an older file has fewer columns and other tables."""
    older, found = not _columns(source, _T["run"]), []
    for table in tables.sorted_tables:
        if table.name == "migration" or (older and table.name in ("run", "evidence")):
            continue
        columns = [(name, f'"{name}"') for name in _columns(source, table)]
        added = _EARLIER.get(table.name) if older else None
        found.append(_Way(table.name, table.name, [*columns, added] if added and columns else columns))
    if older and (there := _columns_named(source, "timeline")):
        read = [name for name in _TIMELINE if name in there]
        written = [*read[:-1], "kind", "version", "codec", "digest", "bytes", "payload"]
        pairs = [(name, f'"{read[i]}"' if i < len(read) else "NULL") for i, name in enumerate(written)]
        found.append(_Way("timeline", "evidence", pairs, lambda row: _evidence_of(row[: len(read)])))
    return found


def _columns(source: sqlite3.Connection, table: Table) -> list[str]:
    """Return the columns of a table that the damaged archive has; all when nobody can tell."""
    there = _columns_named(source, table.name)
    names = [column.name for column in table.columns]
    return names if there is None else [name for name in names if name in there]


def _columns_named(source: sqlite3.Connection, table: str) -> set[str] | None:
    try:
        return {row["name"] for row in source.execute(f'PRAGMA table_info("{table}")')}
    except sqlite3.DatabaseError:
        return None


class _Rows:
    """The rows of one table, read by their numbers; a query that follows damaged pages for long is given up."""

    def __init__(self, source: sqlite3.Connection, way: _Way) -> None:
        read = ", ".join(expression for _, expression in way.columns)
        self._query = f'SELECT rowid AS row_number, {read} FROM "{way.source}" WHERE rowid > ? ORDER BY rowid LIMIT ?'
        self._source = source

    def after(self, number: int, count: int) -> list[sqlite3.Row] | None:
        """Return the next rows behind a number, None where they cannot be read."""
        stop = time.monotonic() + _QUERY_S
        self._source.set_progress_handler(lambda: int(time.monotonic() > stop), _STEPS)
        try:
            rows: list[sqlite3.Row] = self._source.execute(self._query, (number, count)).fetchall()
        except (sqlite3.Error, OverflowError, MemoryError):
            return None
        finally:
            self._source.set_progress_handler(None, 0)
        numbers = [row["row_number"] for row in rows]
        # Damaged pages can lead in circles.
        return rows if all(a < b for a, b in zip([number, *numbers], numbers, strict=False)) else None

    def behind(self, number: int) -> int | None:
        """Return a number behind a damaged place from which on rows can be read again; None where there is none.

        Steps grow twofold over the place, then halve back to its end.
        """
        step = 1
        while step <= _BEYOND:
            if self.after(number + step, 1) is not None:
                low, high = number + step // 2, number + step
                while high - low > 1:
                    middle = (low + high) // 2
                    low, high = (low, middle) if self.after(middle, 1) is not None else (middle, high)
                return high
            step *= 2
        return None


def _copied(
    source: sqlite3.Connection, saved: sqlite3.Connection, way: _Way, told: Callable[[str, int], None]
) -> tuple[int, int]:
    """Copy one table and return its rows and the gaps in it."""
    written = ", ".join(f'"{name}"' for name, _ in way.columns)
    marks = ", ".join("?" * len(way.columns))
    insert = f'INSERT OR IGNORE INTO "{way.target}" ({written}) VALUES ({marks})'
    rows, at, count, gaps = _Rows(source, way), 0, 0, 0
    saved.execute("BEGIN")
    while True:
        found = rows.after(at, _STRIDE)
        if found is None:  # those before the damaged one are read one by one
            found = rows.after(at, 1)
        if found is None:
            gaps += 1
            behind = rows.behind(at)
            if behind is None:
                break
            at = behind
            continue
        if not found:
            break
        for row in found:
            with suppress(sqlite3.Error, ValueError, TypeError):
                saved.execute(insert, way.turned(tuple(row)[1:]))
                count += 1
        at = found[-1]["row_number"]
        told(way.target, count)
    saved.execute("COMMIT")
    return count, gaps
