"""Numbered steps that bring an older file to the newest schema, each frozen as it was written.

A step says in SQL what it changes and asks no other module for it: tables move on, and what a file of then needs does
not. A new file takes none of them.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable

from sqlalchemy import Connection

from bystander.design import mending
from bystander.errors import ArchiveError

__all__ = ["STEPS"]


def _columns(connection: Connection, table: str) -> set[str]:
    return {row[1] for row in connection.exec_driver_sql(f'PRAGMA table_info("{table}")')}


def _conditions(connection: Connection) -> None:
    """To 2: conditions of a block."""
    if "conditions" not in _columns(connection, "attempt"):
        connection.exec_driver_sql("ALTER TABLE attempt ADD COLUMN conditions TEXT")


def _timelines(connection: Connection) -> None:
    """To 3: what programs told of themselves."""
    connection.exec_driver_sql(
        "CREATE TABLE IF NOT EXISTS timeline (id INTEGER NOT NULL PRIMARY KEY, record_id INTEGER NOT NULL REFERENCES "
        "record (id), trial_id INTEGER UNIQUE REFERENCES trial (id), array_id INTEGER REFERENCES trial_array (id), "
        "array_row INTEGER, summary TEXT NOT NULL, phases BLOB NOT NULL)"
    )


def _looks(connection: Connection) -> None:
    """To 4: looks that were taken."""
    connection.exec_driver_sql(
        "CREATE TABLE IF NOT EXISTS look (id INTEGER NOT NULL PRIMARY KEY, record_id INTEGER NOT NULL REFERENCES "
        "record (id), workload INTEGER NOT NULL, arm INTEGER NOT NULL, blocks INTEGER NOT NULL, level FLOAT NOT NULL, "
        "outcome VARCHAR NOT NULL, UNIQUE (record_id, workload, arm, blocks))"
    )


_PARENTS_OF_5 = (("block", "record", "record_id"), ("attempt", "block", "block_id"), ("trial", "attempt", "attempt_id"))
_DOUBLES_OF_5 = (
    "SELECT 1 FROM attempt WHERE state = 'whole' GROUP BY block_id HAVING COUNT(*) > 1 LIMIT 1",
    "SELECT 1 FROM trial GROUP BY attempt_id, arm HAVING COUNT(*) > 1 LIMIT 1",
    *(f"SELECT 1 FROM {child} WHERE {key} NOT IN (SELECT id FROM {parent}) LIMIT 1"
      for child, parent, key in _PARENTS_OF_5),
)  # fmt: skip


def _provenance(connection: Connection) -> None:
    """To 5: where records are from, which file their study was, and what cannot be: doubles and orphans."""
    if any(connection.exec_driver_sql(query).first() for query in _DOUBLES_OF_5):
        path = connection.engine.url.database
        raise ArchiveError(
            f"the archive {path} holds blocks that ran twice, or trials that belong to nothing; "
            f"{mending(path)} saves each of them once"
        )
    columns = _columns(connection, "record")
    for name in ("study_file", "provenance"):
        if name not in columns:
            connection.exec_driver_sql(f"ALTER TABLE record ADD COLUMN {name} VARCHAR NOT NULL DEFAULT ''")
    if "machines" not in _columns(connection, "trial_array"):
        connection.exec_driver_sql("ALTER TABLE trial_array ADD COLUMN machines BLOB")
    # An observation writes trial by trial; arrays are only ever imported.
    connection.exec_driver_sql(
        "UPDATE record SET provenance = 'imported' WHERE id IN (SELECT record_id FROM trial_array)"
    )
    connection.exec_driver_sql(
        "CREATE TABLE IF NOT EXISTS ended_early (id INTEGER NOT NULL PRIMARY KEY, wall_s FLOAT NOT NULL, study TEXT "
        "NOT NULL, why TEXT NOT NULL)"
    )
    connection.exec_driver_sql(
        "CREATE UNIQUE INDEX IF NOT EXISTS whole_attempt ON attempt (block_id) WHERE state = 'whole'"
    )
    connection.exec_driver_sql("CREATE UNIQUE INDEX IF NOT EXISTS trial_of_arm ON trial (attempt_id, arm)")
    for child, parent, key in _PARENTS_OF_5:
        _refuse_orphans(connection, child, parent, key)


def _refuse_orphans(connection: Connection, child: str, parent: str, key: str) -> None:
    connection.exec_driver_sql(
        f"CREATE TRIGGER IF NOT EXISTS {child}_has_{parent} BEFORE INSERT ON {child} "
        f"WHEN NOT EXISTS (SELECT 1 FROM {parent} WHERE id = NEW.{key}) "
        f"BEGIN SELECT RAISE(ABORT, 'its {parent} is missing'); END"
    )


_RUNS_OF_6 = (
    "CREATE TABLE run (id INTEGER NOT NULL PRIMARY KEY, record_id INTEGER NOT NULL REFERENCES record (id), number "
    'INTEGER NOT NULL, purpose VARCHAR NOT NULL, seed BIGINT NOT NULL, "order" VARCHAR NOT NULL, machine_id INTEGER '
    "REFERENCES machine (id), options TEXT NOT NULL, began_wall_s FLOAT, ended_wall_s FLOAT, state VARCHAR NOT NULL, "
    "UNIQUE (record_id, number))",
    # Whatever was observed before was one timed run, whose arms were ordered by one permutation a block.
    "INSERT INTO run SELECT NULL, id, 0, 'timed', seed, 'permutation', (SELECT MIN(machine.id) FROM machine WHERE "
    "machine.record_id = record.id), '{}', started_wall_s, ended_wall_s, state FROM record ORDER BY id",
    "DROP TRIGGER IF EXISTS block_has_record",
    "DROP TRIGGER IF EXISTS attempt_has_block",
    "DROP TRIGGER IF EXISTS trial_has_attempt",
    "CREATE TABLE block_of_run (id INTEGER NOT NULL PRIMARY KEY, record_id INTEGER NOT NULL REFERENCES record (id), "
    "run_id INTEGER NOT NULL REFERENCES run (id), workload INTEGER NOT NULL, number INTEGER NOT NULL, arms TEXT, "
    "UNIQUE (run_id, workload, number))",
    "INSERT INTO block_of_run SELECT block.id, block.record_id, run.id, workload, block.number, NULL FROM block JOIN "
    "run ON run.record_id = block.record_id",
    "DROP TABLE block",
    "ALTER TABLE block_of_run RENAME TO block",
    "CREATE INDEX block_of_record ON block (record_id)",
    "CREATE TABLE look_at (id INTEGER NOT NULL PRIMARY KEY, record_id INTEGER NOT NULL REFERENCES record (id), "
    "workload INTEGER NOT NULL, arm INTEGER NOT NULL, reference INTEGER NOT NULL, blocks INTEGER NOT NULL, level FLOAT "
    "NOT NULL, outcome VARCHAR NOT NULL, UNIQUE (record_id, workload, arm, reference, blocks))",
    "INSERT INTO look_at SELECT id, record_id, workload, arm, 0, blocks, level, outcome FROM look",
    "DROP TABLE look",
    "ALTER TABLE look_at RENAME TO look",
    "CREATE TABLE evidence (id INTEGER NOT NULL PRIMARY KEY, record_id INTEGER NOT NULL REFERENCES record (id), "
    "trial_id INTEGER REFERENCES trial (id), array_id INTEGER REFERENCES trial_array (id), array_row INTEGER, run_id "
    "INTEGER REFERENCES run (id), workload INTEGER, arm INTEGER, kind VARCHAR NOT NULL, version INTEGER NOT NULL, "
    "summary TEXT NOT NULL, codec VARCHAR NOT NULL, digest VARCHAR NOT NULL, bytes INTEGER NOT NULL, payload BLOB)",
    "CREATE INDEX ix_evidence_record_id ON evidence (record_id)",
    "CREATE UNIQUE INDEX evidence_of_trial ON evidence (trial_id, kind)",
)


def _runs(connection: Connection) -> None:
    """To 6: blocks belong to runs, looks to comparisons, and timelines are evidence of one kind."""
    run = connection.exec_driver_sql
    for statement in _RUNS_OF_6:
        run(statement)
    insert = (
        "INSERT INTO evidence (record_id, trial_id, array_id, array_row, kind, version, summary, codec, digest, bytes, "
        "payload) VALUES (?, ?, ?, ?, 'timeline', 1, ?, 'zlib', ?, ?, ?)"
    )
    query = "SELECT record_id, trial_id, array_id, array_row, summary, phases FROM timeline ORDER BY id"
    for *place, summary, phases in run(query).all():
        digest = hashlib.sha256(phases).hexdigest()
        run(insert, (*place, summary, digest, len(phases), phases))
    run("DROP TABLE timeline")
    for child, parent, key in (
        ("run", "record", "record_id"), ("block", "run", "run_id"), ("attempt", "block", "block_id"),
        ("trial", "attempt", "attempt_id"),
    ):  # fmt: skip
        _refuse_orphans(connection, child, parent, key)


# By the schema that each step leads to.
STEPS: dict[int, Callable[[Connection], None]] = {
    2: _conditions,
    3: _timelines,
    4: _looks,
    5: _provenance,
    6: _runs,
}
