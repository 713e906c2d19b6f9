"""Connections to an archive's file: durable commits, one transaction helper, migrations."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event, inspect, select
from sqlalchemy.exc import DatabaseError
from sqlalchemy.pool import NullPool

from bystander.archive.schema import MIGRATIONS, tables
from bystander.errors import ArchiveError

__all__ = ["atomic", "migrate", "open_engine", "refuse_network"]

# A lock that only pretends to lock, or a sync that only pretends to sync, loses readings.
_NETWORK = {
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "smbfs",
    "fuse.sshfs",
    "ceph",
    "fuse.glusterfs",
    "lustre",
    "afs",
    "9p",
}


def refuse_network(path: Path, mounts: str | None = None) -> None:
    """Raise ArchiveError when the file would lie on a network file system."""
    if mounts is None:
        try:
            mounts = Path("/proc/mounts").read_text(encoding="utf-8", errors="replace")
        except OSError:
            return
    best, kind = "", ""
    for line in mounts.splitlines():
        place, fs = line.split()[1:3]
        if path.is_relative_to(place) and len(place) >= len(best):
            best, kind = place, fs
    if kind in _NETWORK:
        raise ArchiveError(
            f"{path} lies on a network file system ({kind}), where its locks cannot be trusted; "
            "point --archive or BYSTANDER_ARCHIVE to a local disk"
        )


def open_engine(path: Path) -> Engine:
    """Return an engine whose every commit is on disk when it returns."""
    engine = create_engine(f"sqlite:///{path}", poolclass=NullPool)

    @event.listens_for(engine, "connect")
    def _connected(connection: sqlite3.Connection, _: Any) -> None:
        connection.isolation_level = None  # SQLAlchemy says BEGIN itself, below
        cursor = connection.cursor()
        cursor.execute("PRAGMA busy_timeout = 20000")
        cursor.execute("PRAGMA journal_mode = WAL")
        cursor.execute("PRAGMA synchronous = FULL")  # in WAL mode NORMAL would not sync each commit
        cursor.execute("PRAGMA foreign_keys = ON")
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
    except DatabaseError as error:
        raise ArchiveError(f"the archive {connection.engine.url.database} cannot be written: {error.orig}") from error
    finally:
        connection.info["writes"] = False


def migrate(engine: Engine) -> None:
    """Bring the file to the newest schema; raise ArchiveError when it is newer than this program."""
    migration = tables.tables["migration"]
    with engine.connect() as connection:
        done = 0
        if inspect(connection).has_table("migration"):
            done = max(connection.execute(select(migration.c.number)).scalars(), default=0)
        connection.rollback()
        if done > len(MIGRATIONS):
            raise ArchiveError(
                f"the archive {engine.url.database} was written by a newer Bystander (schema {done}, "
                f"this one knows {len(MIGRATIONS)}); use that one"
            )
        for number in range(done + 1, len(MIGRATIONS) + 1):
            with atomic(connection):
                MIGRATIONS[number - 1](connection)
                connection.execute(migration.insert().values(number=number, applied_wall_s=time.time()))
