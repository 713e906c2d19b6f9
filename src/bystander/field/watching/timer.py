"""Where the kernel's clock is not allowed: threads are looked at by a timer, and the scheduler's counters say who ran.

What it tells has the form of the clock's. From look to look it is known how long a thread ran and waited for a
processor, not in which order: one that stands still now ran first, one that runs now ran last.
"""

from __future__ import annotations

import time
from contextlib import suppress
from pathlib import Path

from bystander.field.watching.clock_events import (
    COMMAND,
    END,
    EXECUTED,
    NEW,
    OUT,
    PREEMPTED,
    SWITCH,
    TICK,
    KernelRecord,
)

__all__ = ["TimerClock"]

_BETWEEN_LISTS_NS = 10_000_000  # from one look for new threads and processes to the next
_MOST_A_LOOK = 64


class _Watched:
    """One thread: its counters as they were."""

    def __init__(self, process: int, thread: int, now: int) -> None:
        self.process, self.thread, self.at_ns = process, thread, now
        self.ran_ns = self.queued_ns = 0
        self.live, self.told = True, (0, 0)


class TimerClock:
    """Tells of one process and its children, looked at whenever it is read."""

    way = "timer"

    def __init__(self, process: int, period_ns: int) -> None:
        self.fds: list[int] = []
        self._root, self._period_ns = process, period_ns
        self._before = _command_line(process)
        self._began = False
        self._threads: dict[int, _Watched] = {}
        self._programs: dict[int, str] = {}
        self._listed_ns = 0

    def read(self) -> list[KernelRecord]:
        """Return what changed since the last call."""
        now = time.monotonic_ns()
        if not self._began:
            line = _command_line(self._root)
            if not line or line == self._before:
                return []
            self._began = True
            self._programs[self._root] = _program(self._root)
            self._threads[self._root] = self._looked(_Watched(self._root, self._root, now), now)
            return [KernelRecord(COMMAND, EXECUTED, now, self._root, self._root, 0, _name(self._root, self._root))]
        found: list[KernelRecord] = []
        if now - self._listed_ns > _BETWEEN_LISTS_NS:
            self._listed_ns = now
            self._list(now, found)
        for one in list(self._threads.values()):
            self._account(one, now, found)
        found.sort(key=lambda record: record.time_ns)
        return found

    def close(self) -> None:
        """Nothing is held."""

    def _list(self, now: int, found: list[KernelRecord]) -> None:
        """Look for threads and processes that began."""
        waiting, seen = [(self._root, 0)], 0
        while waiting and seen < 4096:
            process, parent = waiting.pop()
            seen += 1
            program = _program(process)
            if parent and process not in self._programs:
                found.append(KernelRecord(NEW, 0, now, process, process, parent))
                self._threads[process] = self._looked(_Watched(process, process, now), now)
            if program and self._programs.get(process) != program:
                self._programs[process] = program
                found.append(KernelRecord(COMMAND, EXECUTED, now, process, process, 0, _name(process, process)))
            for thread in _threads(process):
                if thread not in self._threads:
                    found.append(KernelRecord(NEW, 0, now, process, thread, process))
                    found.append(KernelRecord(COMMAND, 0, now, process, thread, 0, _name(process, thread)))
                    self._threads[thread] = self._looked(_Watched(process, thread, now), now)
                waiting += [(child, process) for child in _children(process, thread)]

    def _looked(self, one: _Watched, now: int) -> _Watched:
        told = _counters(one)
        if told:
            one.ran_ns, one.queued_ns, _ = told
        one.at_ns = now
        return one

    def _account(self, one: _Watched, now: int, found: list[KernelRecord]) -> None:
        told = _counters(one)
        if told is None:
            found.append(KernelRecord(END, 0, now, one.process, one.thread))
            del self._threads[one.thread]
            return
        ran_ns, queued_ns, letter = told
        live = letter == "R"
        if live:
            found.append(KernelRecord(TICK, 0, now, one.process, one.thread))
        # The counters move on every few milliseconds only, while a thread runs.
        if live and one.live and (ran_ns, queued_ns) == one.told:
            return
        one.told = ran_ns, queued_ns
        length = now - one.at_ns
        ran = min(length, ran_ns - one.ran_ns)
        queued = min(length - ran, queued_ns - one.queued_ns)
        ran_first = [(OUT | PREEMPTED, queued), (0, ran), (OUT, length - ran - queued)]
        at_ns = one.at_ns
        for flags, span in ran_first[2:] + ran_first[:2] if live else ran_first:
            if span and (ran or queued):
                found.append(KernelRecord(SWITCH, flags, at_ns, one.process, one.thread))
                at_ns += span
        if live != one.live:
            found.append(KernelRecord(SWITCH, 0 if live else OUT, now, one.process, one.thread))
        one.live, one.at_ns = live, now
        one.ran_ns, one.queued_ns = one.ran_ns + ran, one.queued_ns + queued  # what had no room comes next time


def _command_line(process: int) -> bytes:
    try:
        return Path(f"/proc/{process}/cmdline").read_bytes()
    except OSError:
        return b""


def _program(process: int) -> str:
    try:
        words = _command_line(process).split(b"\0", 1)[0].decode("latin-1")
        return f"{Path(f'/proc/{process}/exe').readlink()}\0{words}"
    except OSError:
        return ""


def _name(process: int, thread: int) -> bytes:
    with suppress(OSError):
        return Path(f"/proc/{process}/task/{thread}/comm").read_bytes().rstrip(b"\n")
    return b""


def _threads(process: int) -> list[int]:
    try:
        return [int(place.name) for place in Path(f"/proc/{process}/task").iterdir()]
    except (OSError, ValueError):
        return []


def _children(process: int, thread: int) -> list[int]:
    with suppress(OSError, ValueError):
        return [int(word) for word in Path(f"/proc/{process}/task/{thread}/children").read_bytes().split()]
    return []


def _counters(one: _Watched) -> tuple[int, int, str] | None:
    """Return how long a thread ran and stood in the queue so far, in ns, and its state; None when it is gone."""
    place = f"/proc/{one.process}/task/{one.thread}/"
    try:
        with open(place + "schedstat", "rb") as file:  # noqa: PTH123 - some thousand times a second
            ran, queued, _ = file.read(128).split()
        with open(place + "stat", "rb") as file:  # noqa: PTH123
            letter = file.read(512).rpartition(b")")[2][1:2].decode()
    except (OSError, ValueError):
        return None
    return None if letter in "ZX" else (int(ran), int(queued), letter)
