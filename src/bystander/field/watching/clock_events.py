"""The kernel's clock of what runs: one event a processor, opened for a process before it becomes the program.

The kernel writes into a ring of memory a processor: a tick for each period of CPU time, and each time that a thread is
put on a processor or taken off it, starts, ends or becomes another program. See perf_event_open(2).
"""

from __future__ import annotations

import ctypes
import errno
import mmap
import os
import platform
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

__all__ = ["COMMAND", "END", "EXECUTED", "LOST", "MAPPED", "NEW", "SWITCH", "TICK", "ClockEvents", "KernelRecord"]

_CALLS = {"x86_64": 298, "aarch64": 241}
_SOFTWARE, _CPU_CLOCK = 1, 0
_SIZE = 136  # of the description, as of Linux 6.3; zeros behind what an older kernel knows
_MONOTONIC = 1
# What each record carries: process and thread, time, processor.
_TID, _TIME, _CPU = 1 << 1, 1 << 2, 1 << 7
_FLAGS = {name: 1 << bit for bit, name in {
    0: "disabled", 1: "inherit", 5: "exclude_kernel", 6: "exclude_hv", 8: "mmap", 9: "comm", 12: "enable_on_exec",
    13: "task", 18: "sample_id_all", 23: "mmap2", 24: "comm_exec", 25: "use_clockid", 26: "context_switch",
}.items()}  # fmt: skip
_ALWAYS = (
    "disabled", "inherit", "exclude_hv", "mmap", "comm", "enable_on_exec", "task", "sample_id_all", "mmap2",
    "comm_exec", "use_clockid", "context_switch",
)  # fmt: skip

LOST, COMMAND, END, NEW, TICK, MAPPED, SWITCH = 2, 3, 4, 7, 9, 10, 14  # as the kernel numbers its records
EXECUTED = 1 << 13  # among the flags of COMMAND: the thread became another program
OUT, PREEMPTED = 1 << 13, 1 << 14  # among those of SWITCH

_HEAD = struct.Struct("<IHH")
_TRAILER = struct.Struct("<IIQII")  # process, thread, time, processor, nothing
_TICK = struct.Struct("<IIQII")
_TASK = struct.Struct("<IIIIQ")  # process, parent, thread, parent's thread, time
_WHICH = struct.Struct("<II")
_PAGE = mmap.PAGESIZE
_PAGES = 128  # of a ring; an ordinary user may lock 516 KiB a processor
_HEAD_AT, _TAIL_AT = 1024, 1032


class KernelRecord(NamedTuple):
    """What the kernel told: its kind and flags, when (monotonic, ns), of which process and thread.

    `number` is how many were lost, or the process or thread that began it; `text` a program's name, or a mapped file.
    """

    kind: int
    flags: int
    time_ns: int
    process: int
    thread: int
    number: int = 0
    text: bytes = b""


class _Ring:
    """The ring of one processor."""

    def __init__(self, fd: int) -> None:
        self.fd = fd
        self._size = _PAGES * _PAGE
        self._memory = mmap.mmap(fd, self._size + _PAGE, mmap.MAP_SHARED, mmap.PROT_READ | mmap.PROT_WRITE)
        self._tail = 0

    def read(self) -> bytes:
        """Return what was written since the last call."""
        memory = self._memory
        (head,) = struct.unpack_from("<Q", memory, _HEAD_AT)
        if head == self._tail:
            return b""
        begin, end = self._tail % self._size, head % self._size
        if begin < end:
            data = memory[_PAGE + begin : _PAGE + end]
        else:
            data = memory[_PAGE + begin : _PAGE + self._size] + memory[_PAGE : _PAGE + end]
        self._tail = head
        struct.pack_into("<Q", memory, _TAIL_AT, head)
        return data

    def close(self) -> None:
        """Give memory and descriptor back."""
        self._memory.close()
        os.close(self.fd)


class ClockEvents:
    """The events of one process and all that it starts, from when it becomes the program.

    Parameters
    ----------
    process : int
        It must not have become the program yet.
    period_ns : int
        CPU time of a thread from tick to tick.
    outside_kernel : bool
        Leave ticks in the kernel out, which is all that an ordinary user may be allowed.

    Raises
    ------
    OSError
        When the kernel does not allow it, or has none of it.
    """

    def __init__(self, process: int, period_ns: int, outside_kernel: bool = False) -> None:
        self.way = "user-clock" if outside_kernel else "clock"
        self.rings: list[_Ring] = []
        self.lost = 0
        number = _CALLS.get(platform.machine())
        if number is None:
            raise OSError(0, f"the processor {platform.machine()} is not known")
        try:
            for cpu in sorted(os.sched_getaffinity(process) | set(range(os.cpu_count() or 1))):
                with _if_there():
                    self.rings.append(_Ring(_opened(number, process, cpu, period_ns, outside_kernel)))
            if not self.rings:
                raise OSError(errno.ENODEV, "no processor has the clock")
        except OSError:
            self.close()
            raise

    @property
    def fds(self) -> list[int]:
        """Descriptors that become readable when there is a tick."""
        return [ring.fd for ring in self.rings]

    def read(self) -> list[KernelRecord]:
        """Return what was told since the last call, in the order of time."""
        found = [record for ring in self.rings for record in _records(ring.read())]
        found.sort(key=lambda record: record.time_ns)
        return found

    def close(self) -> None:
        """Give everything back."""
        for ring in self.rings:
            ring.close()
        self.rings.clear()


@contextmanager
def _if_there() -> Iterator[None]:
    """Leave out a processor that is switched off: numbers of processors need not follow one another."""
    try:
        yield
    except OSError as error:
        if error.errno != errno.ENODEV:
            raise


def _opened(number: int, process: int, cpu: int, period_ns: int, outside_kernel: bool) -> int:
    libc = ctypes.CDLL(None, use_errno=True)
    flags = sum(_FLAGS[name] for name in _ALWAYS) | (_FLAGS["exclude_kernel"] if outside_kernel else 0)
    front = struct.pack("<IIQQQQQII", _SOFTWARE, _SIZE, _CPU_CLOCK, period_ns, _TID | _TIME | _CPU, 0, flags, 1, 0)
    back = struct.pack("<QQQQIi", 0, 0, 0, 0, 0, _MONOTONIC)  # up to the clock
    description = ctypes.create_string_buffer((front + back).ljust(_SIZE, b"\0"), _SIZE)
    close_on_exec = 8
    fd = libc.syscall(number, description, process, cpu, -1, close_on_exec)
    if fd < 0:
        error = ctypes.get_errno()
        raise OSError(error, os.strerror(error))
    return int(fd)


def _records(data: bytes) -> Iterator[KernelRecord]:
    at, size = 0, len(data)
    while at + 8 <= size:
        kind, flags, length = _HEAD.unpack_from(data, at)
        if length < 8:  # no record is as short: what follows cannot be found
            return
        body, end = at + 8, at + length
        if kind == TICK:
            process, thread, time_ns, _, _ = _TICK.unpack_from(data, body)
            yield KernelRecord(kind, flags, time_ns, process, thread)
        elif kind == SWITCH:
            process, thread, time_ns, _, _ = _TRAILER.unpack_from(data, end - _TRAILER.size)
            yield KernelRecord(kind, flags, time_ns, process, thread)
        elif kind in (NEW, END):
            process, parent, thread, _, time_ns = _TASK.unpack_from(data, body)
            yield KernelRecord(kind, flags, time_ns, process, thread, parent)
        elif kind in (COMMAND, MAPPED):
            process, thread = _WHICH.unpack_from(data, body)
            _, _, time_ns, _, _ = _TRAILER.unpack_from(data, end - _TRAILER.size)
            text = data[body + (8 if kind == COMMAND else 64) : end - _TRAILER.size].split(b"\0", 1)[0]
            yield KernelRecord(kind, flags, time_ns, process, thread, 0, text)
        elif kind == LOST:
            (lost,) = struct.unpack_from("<Q", data, body + 8)
            _, _, time_ns, _, _ = _TRAILER.unpack_from(data, end - _TRAILER.size)
            yield KernelRecord(kind, flags, time_ns, 0, 0, lost)
        at = end
