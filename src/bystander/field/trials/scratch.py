"""Scratch folders that the next command clears away when their owner was killed."""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

__all__ = ["remove_leftovers", "scratch_folder"]

_PREFIX = "bystander-"
_HELD = "held"


@contextmanager
def scratch_folder() -> Iterator[Path]:
    """Give a folder for temporary files; a lock in it says that its owner lives."""
    with tempfile.TemporaryDirectory(prefix=_PREFIX, ignore_cleanup_errors=True) as name:
        folder = Path(name)
        fd = os.open(folder / _HELD, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(fd, fcntl.LOCK_EX)
            yield folder
        finally:
            os.close(fd)


def remove_leftovers() -> int:
    """Remove this user's scratch folders whose owners are gone, and return how many."""
    removed = 0
    for folder in Path(tempfile.gettempdir()).glob(_PREFIX + "*"):
        with suppress(OSError):
            state = folder.lstat()
            if state.st_uid == os.getuid() and folder.is_dir() and not folder.is_symlink() and _abandoned(folder):
                shutil.rmtree(folder, ignore_errors=True)
                removed += 1
    return removed


def _abandoned(folder: Path) -> bool:
    """Whether nobody holds the folder's lock; one without a lock is not ours, or was made just now."""
    try:
        fd = os.open(folder / _HELD, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except FileNotFoundError:
        return False
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    finally:
        os.close(fd)
    return True
