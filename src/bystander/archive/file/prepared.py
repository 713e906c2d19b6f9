"""Statements that are written out once: SQLAlchemy takes longer to find one again than to run it."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.dialects import sqlite
from sqlalchemy.sql import ClauseElement

from bystander.archive.tables.schema import tables

__all__ = ["Prepared", "insert"]

_T = tables.tables


class Prepared:
    """A statement as the driver takes it, with values by name."""

    def __init__(self, statement: ClauseElement, columns: tuple[str, ...] | None = None) -> None:
        written = statement.compile(dialect=sqlite.dialect(), column_keys=columns)
        self._text, self._names = str(written), tuple(written.positiontup or ())  # type: ignore[attr-defined]
        self._fixed = {name: value for name, value in written.params.items() if value is not None}

    def run(self, connection: Connection, values: Mapping[str, Any]) -> sqlite3.Cursor:
        """Run it within the connection's transaction; nothing is converted: values are what SQLite keeps."""
        driver = connection.connection.driver_connection
        assert isinstance(driver, sqlite3.Connection)
        return driver.execute(self._text, tuple(map({**self._fixed, **values}.__getitem__, self._names)))

    def value(self, connection: Connection, values: Mapping[str, Any]) -> Any:
        """Return the first value of its first row; None without one."""
        row = self.run(connection, values).fetchone()
        return row[0] if row else None


@lru_cache(maxsize=64)
def _insertion(table: str, columns: tuple[str, ...]) -> Prepared:
    return Prepared(_T[table].insert(), columns)


def insert(connection: Connection, table: str, row: Mapping[str, Any]) -> int:
    """Insert one row and return its id."""
    return int(_insertion(table, tuple(row)).run(connection, row).lastrowid or 0)
