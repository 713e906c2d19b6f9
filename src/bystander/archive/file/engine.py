"""Connections to an archive's file: durable commits, one transaction helper, migrations."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DatabaseError
from sqlalchemy.pool import NullPool

from bystander.archive.file.place import on_a_full_disk
from bystander.archive.file.versions import SCHEMA
from bystander.archive.tables.schema import create, tables
from bystander.archive.tables.steps import STEPS
from bystander.design import mending
from bystander.errors import ArchiveError, NoSpaceError

__all__ = ["atomic", "migrate", "open_engine"]


def open_engine(path: Path) -> Engine:
    """Return an engine whose every commit is on disk when it returns."""
    engine = create_engine(f"sqlite:///{path}", poolclass=NullPool)

    @event.listens_for(engine, "connect")
    def _connected(connection: sqlite3.Connection, _: Any) -> None:
        connection.isolation_level = None  # SQLAlchemy says BEGIN itself, below
        cursor = connection.cursor()
        try:
            cursor.execute("PRAGMA busy_timeout = 20000")
            cursor.execute("PRAGMA journal_mode = WAL")
            cursor.execute("PRAGMA synchronous = FULL")  # in WAL mode NORMAL would not sync each commit
            cursor.execute("PRAGMA foreign_keys = ON")
        except sqlite3.Error as error:
            raise on_a_full_disk(path) or error from error
        finally:
            cursor.close()

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.info.get("writes") else "BEGIN")

    return engine


@contextmanager
def atomic(connection: Connection) -> Iterator[Connection]:
    """Run all writes of the block in one transaction, which is on disk when the outermost block is left."""
    if connection.info.get("writes"):
        yield connection
        return
    connection.info["writes"] = True
    try:
        with connection.begin():
            yield connection
    except (DatabaseError, sqlite3.DatabaseError) as error:
        reason = error.orig if isinstance(error, DatabaseError) else error
        full = on_a_full_disk(Path(str(connection.engine.url.database)))
        if full or getattr(reason, "sqlite_errorcode", None) == sqlite3.SQLITE_FULL:
            raise full or NoSpaceError(f"the disk of the archive {connection.engine.url.database} is full") from error
        damaged = isinstance(reason, sqlite3.DatabaseError) and not isinstance(reason, sqlite3.OperationalError)
        hint = f"; {mending(connection.engine.url.database)} saves what is whole in it" if damaged else ""
        raise ArchiveError(f"the archive {connection.engine.url.database} cannot be written: {reason}{hint}") from error
    finally:
        connection.info["writes"] = False


def migrate(engine: Engine, done: int) -> None:
    """Bring the file from schema `done` to the newest one, each step in a transaction of its own.

    An empty file (0) is made of the newest schema at once, and stamped.
    """
    stamp = tables.tables["migration"].insert()
    with engine.connect() as connection:
        # A table that is made anew under its own name leaves its children without it for a moment.
        driver = connection.connection.driver_connection
        assert driver
        driver.execute("PRAGMA foreign_keys = OFF")
        for number in range(done + 1, SCHEMA + 1) if done else [SCHEMA]:
            with atomic(connection):
                if _schema(connection) < number:  # somebody else may have been quicker
                    (STEPS[number] if done else create)(connection)
                    connection.execute(stamp.values(number=number, applied_wall_s=time.time()))


def _schema(connection: Connection) -> int:
    there = "SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = 'migration'"
    if not connection.exec_driver_sql(there).first():
        return 0
    return int(connection.exec_driver_sql("SELECT MAX(number) FROM migration").scalar() or 0)
