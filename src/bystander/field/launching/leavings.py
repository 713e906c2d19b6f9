"""What a trial leaves in files is read in one way: regular files only, no links, no waiting, and no more than so much.

A trial writes where it likes and what it likes. In the place of a file there may be a pipe, on which a reader waits
for ever, a link to a device without an end, a folder, or a file that fills the memory.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from bystander.units import size_text

__all__ = ["LeftError", "read_left", "said_of"]

_KINDS = (
    (stat.S_ISLNK, "a link"), (stat.S_ISFIFO, "a pipe"), (stat.S_ISDIR, "a folder"), (stat.S_ISSOCK, "a socket"),
    (stat.S_ISCHR, "a device"), (stat.S_ISBLK, "a device"),
)  # fmt: skip


class LeftError(Exception):
    """What a trial left cannot be taken; the message says why, as a clause about the file. The trial has failed."""


def read_left(path: Path, most: int, what: str) -> bytes | None:
    """Return the content of a file that a trial left, None where there is none.

    Parameters
    ----------
    most : int
        The largest size that is read, in bytes.
    what : str
        What the file is to be, for messages: "the file of its marks".

    Raises
    ------
    LeftError
        When something else lies there, it cannot be read, or it is larger.
    """
    try:
        fd = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
    except (FileNotFoundError, NotADirectoryError):
        return None
    except (OSError, ValueError) as error:
        raise LeftError(f"{what} {_why(path, error)}") from None
    try:
        state = os.fstat(fd)
        if not stat.S_ISREG(state.st_mode):
            raise LeftError(f"{what} is {_kind(state.st_mode)}")
        data = _read(fd, most) if state.st_size <= most else None
        if data is None:
            raise LeftError(f"{what} is larger than {size_text(most)}")
        return data
    except OSError as error:
        raise LeftError(f"{what} {_why(path, error)}") from None
    finally:
        os.close(fd)


def _read(fd: int, most: int) -> bytes | None:
    """Return all that can be read, None where that is more; a file may grow, and some never tell their size."""
    parts, size = [], 0
    while data := os.read(fd, min(1 << 20, most + 1 - size)):
        parts.append(data)
        size += len(data)
        if size > most:
            return None
    return b"".join(parts)


def _why(path: Path, error: OSError | ValueError) -> str:
    try:
        mode = path.lstat().st_mode
    except (OSError, ValueError):
        mode = stat.S_IFREG
    if stat.S_ISREG(mode):
        return f"cannot be read: {getattr(error, 'strerror', None) or error}"
    return f"is {_kind(mode)}"


def _kind(mode: int) -> str:
    return next((word for test, word in _KINDS if test(mode)), "no regular file")


def said_of(fd: int, most: int) -> bytes:
    """Return the last bytes of a file that is held open, at most so many."""
    size = os.fstat(fd).st_size
    return os.pread(fd, most, max(0, size - most))
