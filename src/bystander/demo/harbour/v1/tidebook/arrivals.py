"""The register of arrivals, in SQLite."""

import sqlite3

from tidebook.berths import fleet


def register(count):
    """Return a connection to a register of so many ships."""
    connection = sqlite3.connect(":memory:")
    connection.execute("CREATE TABLE arrival (ship TEXT, length INTEGER, draught REAL, minute INTEGER, stay INTEGER)")
    connection.executemany("INSERT INTO arrival VALUES (?, ?, ?, ?, ?)", fleet(count))
    return connection


def report(count):
    """Yield a line for each class of ships: how many, and their dues."""
    ships, dues = {}, {}
    for ship, length, draught, _, stay in register(count).execute("SELECT * FROM arrival ORDER BY minute, ship"):
        kind = "large" if length > 180 else "small" if length < 90 else "middle"
        ships[kind] = ships.get(kind, 0) + 1
        dues[kind] = dues.get(kind, 0) + round(length * draught * (1 + stay / 600))
    for kind in sorted(ships):
        yield f"{kind}: {ships[kind]} ships, dues {dues[kind]}"
