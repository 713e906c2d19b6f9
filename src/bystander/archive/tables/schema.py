"""The tables of an archive as they are today, all values in SI units; a new file is made of them at once."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
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
    text,
)

__all__ = ["Seed", "allow_doubles", "create", "forbid_doubles", "tables"]

tables = MetaData()
Seed = BigInteger  # seeds take up to 63 bits, which a plain integer of some databases does not hold

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
    Column("seed", Seed, nullable=False),
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
    "run",  # a stretch of observing, inspecting, counting or delaying within a record
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False),
    Column("number", Integer, nullable=False),  # within its record, from 0
    Column("purpose", String, nullable=False),  # "timed" reaches a verdict; any other word does not
    Column("seed", Seed, nullable=False),
    Column("order", String, nullable=False),  # how a block's arms are ordered: "digest", "permutation" before
    Column("machine_id", ForeignKey("machine.id")),  # where it began
    Column("options", Text, nullable=False),  # JSON
    Column("began_wall_s", Float),
    Column("ended_wall_s", Float),
    Column("state", String, nullable=False),
    UniqueConstraint("record_id", "number"),
)
Table(
    "block",
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False),
    Column("run_id", ForeignKey("run.id"), nullable=False),
    Column("workload", Integer, nullable=False),
    Column("number", Integer, nullable=False),
    Column("arms", Text),  # JSON: positions of the arms that it is of; all of them without
    UniqueConstraint("run_id", "workload", "number"),
    Index("block_of_record", "record_id"),
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
    "evidence",  # what a trial, or a workload under an arm in a run, tells beside its readings
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False, index=True),
    Column("trial_id", ForeignKey("trial.id")),
    Column("array_id", ForeignKey("trial_array.id")),  # instead of a trial: a row of an array
    Column("array_row", Integer),
    Column("run_id", ForeignKey("run.id")),  # instead of a trial: with workload and arm
    Column("workload", Integer),
    Column("arm", Integer),
    Column("kind", String, nullable=False),
    Column("version", Integer, nullable=False),  # of the payload's form
    Column("summary", Text, nullable=False),  # JSON
    Column("codec", String, nullable=False),  # "zlib", or "" for plain bytes
    Column("digest", String, nullable=False),  # SHA-256 of the payload
    Column("bytes", Integer, nullable=False),
    Column("payload", LargeBinary),  # none where it lies in a file beside the archive, see `evidence_files`
    Index("evidence_of_trial", "trial_id", "kind", unique=True),
)
Table(
    "look",  # at one comparison while it was observed
    tables,
    Column("id", Integer, primary_key=True),
    Column("record_id", ForeignKey("record.id"), nullable=False),
    Column("workload", Integer, nullable=False),
    Column("arm", Integer, nullable=False),  # the candidate
    Column("reference", Integer, nullable=False),
    Column("blocks", Integer, nullable=False),
    Column("level", Float, nullable=False),
    Column("outcome", String, nullable=False),
    UniqueConstraint("record_id", "workload", "arm", "reference", "blocks"),
)
Table(
    "ended_early",  # observations that ended before their first trial, and so left no record
    tables,
    Column("id", Integer, primary_key=True),
    Column("wall_s", Float, nullable=False),
    Column("study", Text, nullable=False),  # its name, "" where it could not be read
    Column("why", Text, nullable=False),
)

# What belongs to nothing cannot be written, whoever writes: foreign keys hold only on connections that ask for it.
_PARENTS = (
    ("run", "record", "record_id"), ("block", "run", "run_id"), ("attempt", "block", "block_id"),
    ("trial", "attempt", "attempt_id"),
)  # fmt: skip
_INDEXES = {
    "whole_attempt": "ON attempt (block_id) WHERE state = 'whole'",
    "trial_of_arm": "ON trial (attempt_id, arm)",
}


def create(connection: Connection) -> None:
    """Make all tables in an empty file, and let the file itself refuse what cannot be."""
    tables.create_all(connection)
    forbid_doubles(connection)


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
