"""Which files are opened in a folder: the kernel tells (inotify), whoever opens them."""

from __future__ import annotations

import ctypes
import errno
import os
import struct
from collections.abc import Callable, Iterable
from pathlib import Path
from types import TracebackType

__all__ = ["CannotWatchError", "Openings", "source_of"]

_OPEN, _OVERFLOW, _DIRECTORY = 0x20, 0x4000, 0x40000000
_HEAD = struct.Struct("iIII")
_MOST_FOLDERS = 20_000  # the kernel's own limit is often lower, and says so


class CannotWatchError(Exception):
    """The system cannot watch these folders; the message is a clause that says why."""


class Openings:
    """Watches folders; use as a context. Files below them are not watched, only those in them.

    Raises
    ------
    CannotWatchError
        On entering, where the system has no such interface or too few watches.
    """

    def __init__(self, folders: Iterable[Path]) -> None:
        self._folders = list(folders)
        self._by_watch: dict[int, Path] = {}
        self._fd = -1
        self._libc = ctypes.CDLL(None, use_errno=True)  # the C library this process runs on

    def __enter__(self) -> Openings:
        if len(self._folders) > _MOST_FOLDERS:
            raise CannotWatchError(f"{len(self._folders)} folders are too many to watch")
        if not hasattr(self._libc, "inotify_init1"):
            raise CannotWatchError("this system has no inotify")
        self._fd = self._libc.inotify_init1(os.O_NONBLOCK | os.O_CLOEXEC)
        if self._fd < 0:
            raise CannotWatchError(os.strerror(ctypes.get_errno()))
        try:
            for folder in self._folders:
                self.add(folder)
        except CannotWatchError:
            self.__exit__(None, None, None)
            raise
        return self

    def add(self, folder: Path) -> None:
        """Watch one more folder; one that is gone or not ours to read is left out.

        Raises
        ------
        CannotWatchError
            Where the system has too few watches.
        """
        watch = self._libc.inotify_add_watch(self._fd, os.fsencode(folder), _OPEN)
        if watch >= 0:
            self._by_watch[watch] = folder
        elif (number := ctypes.get_errno()) == errno.ENOSPC:
            raise CannotWatchError(f"{len(self._folders)} folders are more than fs.inotify.max_user_watches allows")
        elif number not in (errno.ENOENT, errno.EACCES, errno.ENOTDIR):
            raise CannotWatchError(os.strerror(number))

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    def seen(self) -> set[Path]:
        """Return the files that were opened since the last call.

        Raises
        ------
        CannotWatchError
            When there were more than the kernel remembers.
        """
        found, overflowed = set(), False
        while data := self._read():
            at = 0
            while at < len(data):
                watch, mask, _, length = _HEAD.unpack_from(data, at)
                name = data[at + _HEAD.size : at + _HEAD.size + length].rstrip(b"\0")
                at += _HEAD.size + length
                overflowed |= bool(mask & _OVERFLOW)
                if mask & _OPEN and not mask & _DIRECTORY and name and watch in self._by_watch:
                    found.add(self._by_watch[watch] / os.fsdecode(name))
        if overflowed:
            raise CannotWatchError("more files were opened than the kernel remembers")
        return found

    def _read(self) -> bytes:
        try:
            return os.read(self._fd, 1 << 16)
        except BlockingIOError:
            return b""


def source_of(path: Path, exists: Callable[[Path], bool] = Path.exists) -> Path:
    """Return the source file that a file of compiled Python stands for, any other file as it is.

    An interpreter that finds `__pycache__/tides.cpython-311.pyc` up to date never opens `tides.py`.
    """
    if path.parent.name != "__pycache__" or path.suffix != ".pyc":
        return path
    source = path.parent.parent / f"{path.name.partition('.')[0]}.py"
    return source if exists(source) else path
