"""What a thread waits for: the system call that it is in, and what its file is."""

from __future__ import annotations

import platform
from pathlib import Path

from bystander.design import WAITS

__all__ = ["wait_of"]

_SOMETHING, _SLEEP, _LOCK, _PIPE, _SOCKET, _DISK, _CHILD, _EVENTS, _DEVICE, _PROCESSOR = range(len(WAITS))
_X86_64 = {
    35: _SLEEP, 230: _SLEEP, 202: _LOCK, 61: _CHILD, 247: _CHILD, 73: _LOCK, 74: _DISK, 75: _DISK, 162: _DISK,
    7: _EVENTS, 271: _EVENTS, 23: _EVENTS, 270: _EVENTS, 232: _EVENTS, 281: _EVENTS, 34: _EVENTS, 43: _SOCKET,
    288: _SOCKET, 42: _SOCKET, 44: _SOCKET, 45: _SOCKET, 46: _SOCKET, 47: _SOCKET,
}  # fmt: skip
_AARCH64 = {
    101: _SLEEP, 115: _SLEEP, 98: _LOCK, 260: _CHILD, 95: _CHILD, 32: _LOCK, 82: _DISK, 83: _DISK, 81: _DISK,
    73: _EVENTS, 72: _EVENTS, 22: _EVENTS, 202: _SOCKET, 242: _SOCKET, 203: _SOCKET, 206: _SOCKET, 207: _SOCKET,
    211: _SOCKET, 212: _SOCKET,
}  # fmt: skip
# Calls whose first argument is an open file.
_ON_FILES_X86_64 = {0, 1, 17, 18, 19, 20, 40, 275, 295, 296}
_ON_FILES_AARCH64 = {63, 64, 65, 66, 67, 68, 69, 70, 71, 76}
_CALLS, _ON_FILES = {
    "x86_64": (_X86_64, _ON_FILES_X86_64), "aarch64": (_AARCH64, _ON_FILES_AARCH64)
}.get(platform.machine(), ({}, set()))  # fmt: skip


def wait_of(process: int, thread: int) -> int:
    """Return what a thread waits for, as a position in `WAITS`; 0 where that is not known, or it runs."""
    try:
        with open(f"/proc/{process}/task/{thread}/syscall", "rb") as file:  # noqa: PTH123 - some thousand times a second
            words = file.read(256).split()
        number = int(words[0])
    except (OSError, ValueError, IndexError):
        return _SOMETHING
    if number in _ON_FILES and len(words) > 1:
        return _of_file(process, int(words[1], 16))
    return _CALLS.get(number, _SOMETHING)


def _of_file(process: int, fd: int) -> int:
    try:
        target = str(Path(f"/proc/{process}/fd/{fd}").readlink())
    except OSError:
        return _SOMETHING
    if target.startswith("pipe:"):
        return _PIPE
    if target.startswith("socket:"):
        return _SOCKET
    if target.startswith("anon_inode:"):
        return _EVENTS
    return _DEVICE if target.startswith("/dev/") else _DISK
