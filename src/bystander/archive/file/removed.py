"""An archive that somebody removes or replaces while it is written: noticed, and what it held is saved beside it."""

from __future__ import annotations

import os
import sqlite3
from contextlib import suppress
from itertools import count
from pathlib import Path

from bystander.design import command_line
from bystander.errors import ArchiveError
from bystander.files import make_private_folder, new_private_file

__all__ = ["identity", "removed"]


def identity(path: Path) -> tuple[int, int] | None:
    """Return what tells a file from another one of its name; None where there is none."""
    try:
        state = path.stat()
    except OSError:
        return None
    return state.st_dev, state.st_ino


def removed(path: Path, connection: sqlite3.Connection | None) -> ArchiveError:
    """Return the error of an archive that is not there any more, after saving what it holds.

    Parameters
    ----------
    connection : sqlite3.Connection or None
        One that writes to it: a file that was removed lives on as long as it is open.
    """
    sentence = f"the archive {path} was removed or replaced while trials were written into it"
    try:
        if connection is None:
            raise OSError("nothing had been written")
        make_private_folder(path.parent)
        target = _free(path)
        connection.execute("VACUUM INTO ?", (str(target),))  # which takes an empty file as well
    except (sqlite3.Error, OSError) as error:
        return ArchiveError(f"{sentence}, and what it held cannot be saved: {error}")
    goes_on = command_line("observe", "--resume", "--archive", str(target))
    return ArchiveError(f"{sentence}; what it held is saved in {target}, and {goes_on} goes on with it")


def _free(path: Path) -> Path:
    """Return an empty file of our own beside an archive; what was saved there before stays."""
    for number in count(1):
        target = path.with_name(f"{path.name}.saved{f'-{number}' if number > 1 else ''}")
        with suppress(FileExistsError):
            os.close(new_private_file(target))
            return target
    raise AssertionError("numbers do not end")
