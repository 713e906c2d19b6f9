"""Scratch folders that the next command clears away when their owner was killed, and the space left for them."""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from bystander.errors import NoSpaceError
from bystander.units import size_text

__all__ = ["remove_leftovers", "require_space", "scratch_folder"]

_PREFIX = "bystander-"
_HELD = "held"
_LEAST_FREE = 4 * 2**20  # bytes: what a trial's readings and harness need, with something to spare


def require_space(folder: Path, least: int = _LEAST_FREE) -> None:
    """Raise NoSpaceError when a folder's disk is as good as full: a trial would fail for that, not for its arm.

    Parameters
    ----------
    least : int
        So many bytes must be free.
    """
    try:
        disk = os.statvfs(folder)
    except OSError:
        return  # whoever writes there says what is wrong
    free = disk.f_bavail * disk.f_frsize
    if free < least:
        raise NoSpaceError(f"the disk of {folder} has {size_text(free)} free, and trials need {size_text(least)}")
    if disk.f_files and not disk.f_favail:
        raise NoSpaceError(f"the disk of {folder} has no room for another file")


@contextmanager
def scratch_folder() -> Iterator[Path]:
    """Give a folder for temporary files; a lock in it says that its owner lives."""
    with tempfile.TemporaryDirectory(prefix=_PREFIX, ignore_cleanup_errors=True) as name:
        folder = Path(name)
        fd = os.open(folder / _HELD, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
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
            if state.st_uid == os.getuid() and folder.is_dir() and not folder.is_symlink() and _cleared(folder):
                removed += 1
    return removed


def _cleared(folder: Path) -> bool:
    """Remove a folder whose lock nobody holds.

    One without a lock is not ours, was made just now, or its owner was killed before it could take the lock: then it is
    empty, and only an empty one is removed.
    """
    try:
        fd = os.open(folder / _HELD, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except FileNotFoundError:
        if _just_made(folder):
            return False
        folder.rmdir()
        return True
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    finally:
        os.close(fd)
    shutil.rmtree(folder, ignore_errors=True)
    return True


def _just_made(folder: Path) -> bool:
    """Whether a folder is younger than a minute, by its disk's own clock."""
    with tempfile.TemporaryFile(dir=folder.parent) as now:
        return os.fstat(now.fileno()).st_mtime - folder.stat().st_mtime < 60
