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
)

__all__ = ["MIGRATIONS", "tables"]

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


MIGRATIONS: tuple[Callable[[Connection], None], ...] = (_first, _second, _third, _fourth)
