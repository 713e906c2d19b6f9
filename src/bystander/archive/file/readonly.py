"""A private copy of an archive that lies where nothing can be written."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import ExitStack, closing
from pathlib import Path
from urllib.parse import quote

from bystander.archive.file.versions import SCHEMA
from bystander.errors import ArchiveError
from bystander.files import scratch_folder

__all__ = ["ReadOnlyCopy"]

_TRIES = 3


class ReadOnlyCopy:
    """The file and its log, copied into a folder of their own."""

    def __init__(self, path: Path, owned: ExitStack) -> None:
        self.path = path
        self._owned = owned

    @classmethod
    def of(cls, path: Path) -> ReadOnlyCopy | None:
        """Return a copy where one is needed: for what is in the log alone, or to bring it up to date; else None.

        Raises
        ------
        ArchiveError
            When it cannot be copied whole.
        """
        log = path.with_name(path.name + "-wal")
        if not _holds_something(log) and _schema(path) >= SCHEMA:
            return None
        owned = ExitStack()
        target = owned.enter_context(scratch_folder()) / path.name
        try:
            for _ in range(_TRIES):
                before = _states(path, log)
                for file in (path, log):
                    if file.exists():
                        shutil.copyfile(file, target.with_name(file.name))
                if _states(path, log) == before:
                    return cls(target, owned)
        except OSError as error:
            owned.close()
            raise ArchiveError(
                f"{path} lies where nothing can be written, and no private copy of it can be made: {error.strerror}"
            ) from error
        owned.close()
        raise ArchiveError(f"{path} is written by somebody else just now; try again when that observation has ended")

    def remove(self) -> None:
        """Remove the copy."""
        self._owned.close()


def _holds_something(log: Path) -> bool:
    try:
        return log.stat().st_size > 0
    except OSError:
        return False


def _schema(path: Path) -> int:
    """Return the schema of a file without a log; that of today where it cannot be told, which is told by reading it."""
    try:
        with closing(sqlite3.connect(f"file:{quote(str(path.resolve()))}?immutable=1", uri=True)) as connection:
            return int(connection.execute("SELECT MAX(number) FROM migration").fetchone()[0])
    except (sqlite3.Error, TypeError):
        return SCHEMA


def _states(*files: Path) -> list[tuple[int, int] | None]:
    return [(s.st_size, s.st_mtime_ns) if f.exists() and (s := f.stat()) else None for f in files]
