"""The tables of an archive, all values in SI units, and the numbered steps that lead to them."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import (
    Column,
    Connection,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
    inspect,
    text,
)

from bystander.errors import ArchiveError

__all__ = ["MIGRATIONS", "allow_doubles", "forbid_doubles", "tables"]

tables = MetaData()

Table(
    "migration",
    tables,
    Column("number", Integer, primary_key=True),
    Column("applied_wall_s", Float, nullable=False),
)
Table(
    "record",
    tables,
    Column("id", Integer, primary_key=True),
    Column("uuid", String, nullable=False, unique=True),
    Column("name", String, nullable=False, unique=True),
    Column("origin", String, nullable=False),
    Column("state", String, nullable=False),
    Column("started_wall_s", Float, nullable=False),
    Column("ended_wall_s", Float),
    Column("study", Text, nullable=False),  # JSON, as it was read
    Column("study_folder", Text, nullable=False),
    Column("study_file", Text, nullable=False, server_default=""),  # its name there; "" without a file
    Column("provenance", String, nullable=False, server_default=""),  # "" observed here, "imported", "mended", "merged"
    Column("seed", Integer, nullable=False),
    Column("notes", Text, nullable=False),  # JSON list of sentences
    Column("version", String, nullable=False),
)
Table(
    "arm",
    tables,
    Column("record_id", ForeignKey("record.id"), primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("key", String, nullable=False),
    Column("state", Text, nullable=False),  # JSON
)
Table(
    "workload",
    tables,
    Column("record_id", ForeignKey("record.id"), primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("key", String, nullable=False),
)
Table(
    "machine",
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False),
    Column("boot_id", String),
    Column("facts", Text, nullable=False),  # JSON
)
Table(
    "machine_state",
    tables,
    Column("id", Integer, primary_key=True),
    Column("machine_id", ForeignKey("machine.id"), nullable=False),
    Column("wall_s", Float, nullable=False),
    Column("facts", Text, nullable=False),  # JSON
)
Table(
    "measure",
    tables,
    Column("record_id", ForeignKey("record.id"), primary_key=True),
    Column("position", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("description", Text, nullable=False),  # JSON
)
Table(
    "block",
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False),
    Column("workload", Integer, nullable=False),
    Column("number", Integer, nullable=False),
    UniqueConstraint("record_id", "workload", "number"),
)
Table(
    "attempt",
    tables,
    Column("id", Integer, primary_key=True),
    Column("block_id", ForeignKey("block.id"), nullable=False),
    Column("number", Integer, nullable=False),  # from 0; a void attempt is followed by the next
    Column("machine_id", ForeignKey("machine.id"), nullable=False),
    Column("state", String, nullable=False),  # "open" until its last trial ended, then "whole"; or "void"
    Column("conditions", Text),  # JSON: what was drawn for this block, alike for all its arms
    UniqueConstraint("block_id", "number"),
    Index("whole_attempt", "block_id", unique=True, sqlite_where=text("state = 'whole'")),  # one of a block
)
Table(
    "trial",
    tables,
    Column("id", Integer, primary_key=True),
    Column("attempt_id", ForeignKey("attempt.id"), nullable=False),
    Column("arm", Integer, nullable=False),
    Column("order", Integer, nullable=False),  # from 0; -1 where it is not known
    Column("status", Integer, nullable=False),
    Column("detail", Integer, nullable=False),
    Column("limit_s", Float),
    Column("started_wall_s", Float),
    Column("started_monotonic_s", Float),
    Column("left_behind", Integer, nullable=False),
    Column("answer", String),
    Column("excerpt", Text),
    Column("readings", LargeBinary, nullable=False),  # little-endian float64, one per measure, NaN for none
    Index("trial_by_attempt", "attempt_id"),
    Index("trial_of_arm", "attempt_id", "arm", unique=True),
)
Table(
    "trial_array",  # imported trials: one row per workload and arm, arrays of one length, little-endian
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False, index=True),
    Column("workload", Integer, nullable=False),
    Column("arm", Integer, nullable=False),
    Column("trials", Integer, nullable=False),
    Column("blocks", LargeBinary, nullable=False),  # int64, -1 for none
    Column("orders", LargeBinary, nullable=False),  # int64, -1 for none
    Column("statuses", LargeBinary, nullable=False),  # int64
    Column("details", LargeBinary, nullable=False),  # int64
    Column("limits_s", LargeBinary, nullable=False),  # float64, NaN for none
    Column("started_s", LargeBinary, nullable=False),  # float64, NaN for none
    Column("readings", LargeBinary, nullable=False),  # float64, row by row, one per measure, NaN for none
    Column("texts", Text, nullable=False),  # JSON: answers and excerpts by row
    Column("machines", LargeBinary),  # int64: which of its machines, counted from 0; none for one machine
)
Table(
    "samples",  # all values of a trial and measure whose reading is their median
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False, index=True),
    Column("measure", Integer, nullable=False),
    Column("trial_id", ForeignKey("trial.id")),
    Column("array_id", ForeignKey("trial_array.id")),  # instead of a trial: a row of an array
    Column("array_row", Integer),
    Column("readings", LargeBinary, nullable=False),  # float64, little-endian
)
Table(
    "timeline",  # what the program of a trial told of itself, besides its readings
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False, index=True),
    Column("trial_id", ForeignKey("trial.id"), unique=True),
    Column("array_id", ForeignKey("trial_array.id")),  # instead of a trial: a row of an array
    Column("array_row", Integer),
    Column("summary", Text, nullable=False),  # JSON: problems, and the seconds of labels by phase
    Column("phases", LargeBinary, nullable=False),  # see archive/timelines.py
)
Table(
    "look",  # at one comparison while it was observed
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False),
    Column("workload", Integer, nullable=False),
    Column("arm", Integer, nullable=False),
    Column("blocks", Integer, nullable=False),
    Column("level", Float, nullable=False),
    Column("outcome", String, nullable=False),
    UniqueConstraint("record_id", "workload", "arm", "blocks"),
)
Table(
    "ended_early",  # observations that ended before their first trial, and so left no record
    tables,
    Column("id", Integer, primary_key=True),
    Column("wall_s", Float, nullable=False),
    Column("study", Text, nullable=False),  # its name, "" where it could not be read
    Column("why", Text, nullable=False),
)


def _first(connection: Connection) -> None:
    tables.create_all(connection)


def _second(connection: Connection) -> None:
    """Conditions of a block; a new file has the column from its first step."""
    if "conditions" not in {column["name"] for column in inspect(connection).get_columns("attempt")}:
        connection.exec_driver_sql("ALTER TABLE attempt ADD COLUMN conditions TEXT")


def _third(connection: Connection) -> None:
    """What programs told of themselves."""
    tables.tables["timeline"].create(connection, checkfirst=True)


def _fourth(connection: Connection) -> None:
    """Looks that were taken."""
    tables.tables["look"].create(connection, checkfirst=True)


# What belongs to nothing cannot be written, whoever writes: foreign keys hold only on connections that ask for it.
_PARENTS = (("block", "record", "record_id"), ("attempt", "block", "block_id"), ("trial", "attempt", "attempt_id"))
_INDEXES = {
    "whole_attempt": "ON attempt (block_id) WHERE state = 'whole'",
    "trial_of_arm": "ON trial (attempt_id, arm)",
}
_DOUBLES = (
    "SELECT 1 FROM attempt WHERE state = 'whole' GROUP BY block_id HAVING COUNT(*) > 1 LIMIT 1",
    "SELECT 1 FROM trial GROUP BY attempt_id, arm HAVING COUNT(*) > 1 LIMIT 1",
    *(f"SELECT 1 FROM {child} WHERE {key} NOT IN (SELECT id FROM {parent}) LIMIT 1" for child, parent, key in _PARENTS),
)


def forbid_doubles(connection: Connection) -> None:
    """Let the file itself refuse two whole attempts of a block, two trials of an arm in an attempt, and orphans."""
    for name, where in _INDEXES.items():
        connection.exec_driver_sql(f"CREATE UNIQUE INDEX IF NOT EXISTS {name} {where}")
    for child, parent, key in _PARENTS:
        connection.exec_driver_sql(
            f"CREATE TRIGGER IF NOT EXISTS {child}_has_{parent} BEFORE INSERT ON {child} "
            f"WHEN NOT EXISTS (SELECT 1 FROM {parent} WHERE id = NEW.{key}) "
            f"BEGIN SELECT RAISE(ABORT, 'its {parent} is missing'); END"
        )


def allow_doubles(connection: Connection) -> None:
    """Lift that for a while, to copy what a damaged file holds before it is cured."""
    for name in _INDEXES:
        connection.exec_driver_sql(f"DROP INDEX IF EXISTS {name}")
    for child, parent, _ in _PARENTS:
        connection.exec_driver_sql(f"DROP TRIGGER IF EXISTS {child}_has_{parent}")


def _fifth(connection: Connection) -> None:
    """Where records are from, which file their study was, and what cannot be: doubles and orphans."""
    if any(connection.exec_driver_sql(query).first() for query in _DOUBLES):
        raise ArchiveError(
            f"the archive {connection.engine.url.database} holds blocks that ran twice, or trials that belong to "
            "nothing; bystander records mend saves each of them once"
        )
    columns = {column["name"] for column in inspect(connection).get_columns("record")}
    for name in ("study_file", "provenance"):
        if name not in columns:
            connection.exec_driver_sql(f"ALTER TABLE record ADD COLUMN {name} VARCHAR NOT NULL DEFAULT ''")
    if "machines" not in {column["name"] for column in inspect(connection).get_columns("trial_array")}:
        connection.exec_driver_sql("ALTER TABLE trial_array ADD COLUMN machines BLOB")
    # An observation writes trial by trial; arrays are only ever imported.
    connection.exec_driver_sql(
        "UPDATE record SET provenance = 'imported' WHERE id IN (SELECT record_id FROM trial_array)"
    )
    tables.tables["ended_early"].create(connection, checkfirst=True)
    forbid_doubles(connection)


MIGRATIONS: tuple[Callable[[Connection], None], ...] = (_first, _second, _third, _fourth, _fifth)
