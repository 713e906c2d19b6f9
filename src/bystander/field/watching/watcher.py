"""Ways of watching a trial, the best one first: which of them works here, and what is lost with the others."""

from __future__ import annotations

import ctypes
import gc
import os
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from bystander.design import Watched
from bystander.errors import UsageError
from bystander.field.watching.clock_events import ClockEvents
from bystander.field.watching.memory import Memory, TornError
from bystander.field.watching.recorder import Recorder
from bystander.field.watching.timer import TimerClock

__all__ = [
    "CLOCK",
    "COUNTS_ONLY",
    "SHORTEST_TICK_NS",
    "TIMER",
    "USER_CLOCK",
    "WAYS",
    "FoundWay",
    "Watcher",
    "found_way",
]

CLOCK, USER_CLOCK, TIMER, COUNTS_ONLY = "clock", "user-clock", "timer", "counts"
WAYS = (CLOCK, USER_CLOCK, TIMER, COUNTS_ONLY)
SHORTEST_TICK_NS = 250_000
_TIMER_TICK_NS = 1_000_000
_PARANOID = Path("/proc/sys/kernel/perf_event_paranoid")
_LOST = {
    CLOCK: "",
    USER_CLOCK: "Without rights over the kernel its clock ticks outside the kernel only: what a place does in there is "
    "seen between ticks, less often",
    TIMER: "A timer is used instead of the kernel's clock: a thousand looks a second at most, and what ran between two "
    "looks is known by its length only",
    COUNTS_ONLY: "Nothing can be seen from outside here, and only calls are counted",
}


@dataclass(frozen=True)
class FoundWay:
    """How trials are watched here, and what is lost by that, as a sentence; "" where nothing is."""

    way: str
    sentence: str = ""

    def tick_ns(self, wanted_ns: int) -> int:
        """Return the tick that this way can keep: at least `SHORTEST_TICK_NS`; a timer keeps 1 ms."""
        return max(_TIMER_TICK_NS if self.way == TIMER else SHORTEST_TICK_NS, wanted_ns)


def found_way(asked: str | None = None) -> FoundWay:
    """Return the best way that works here, from the one that is asked for on."""
    if asked is not None and asked not in WAYS:
        raise UsageError(f'--way: "{asked}" is none; there are {", ".join(WAYS)}')
    ways = WAYS[WAYS.index(asked) if asked else 0 :]
    reason = "" if asked in (None, CLOCK) else "it was asked for"
    for way in ways:
        refused = _refused(way)
        if not refused:
            lost = _LOST[way]
            return FoundWay(way, f"{lost} ({reason})." if lost else _few_cores())
        reason = refused
    raise AssertionError("counting needs nothing")


def _few_cores() -> str:
    if len(os.sched_getaffinity(0)) > 1:
        return ""
    return "There is one processor only, which the watching shares: watched times grow by a tenth, more or less."


def _refused(way: str) -> str:
    """Return why a way does not work here, with how to do better; "" where it does."""
    if way in (CLOCK, USER_CLOCK):
        try:
            ClockEvents(os.getpid(), _TIMER_TICK_NS, way == USER_CLOCK).close()
        except OSError as error:
            return _how_to_allow(way, error)
    return "" if way == COUNTS_ONLY else _unread()


def _how_to_allow(way: str, error: OSError) -> str:
    with suppress(OSError, ValueError):
        if int(_PARANOID.read_text()) > (1 if way == CLOCK else 2) and os.geteuid():
            better = "1 allows more" if way == CLOCK else "2 allows it"
            return f"sysctl kernel.perf_event_paranoid={better}"
    return f"the kernel says: {error.strerror or error}"


def _unread() -> str:
    """Return why other processes cannot be read here; "" where they can."""
    if not Path("/proc/self/maps").exists():
        return "this system has no /proc"
    known = ctypes.create_string_buffer(b"bystander")
    try:
        found = bytes(Memory(os.getpid()).read(ctypes.addressof(known), 9)[:9])
    except (OSError, TornError) as error:
        return f"reading another process is not allowed here: {error}; a container needs the right SYS_PTRACE for it"
    return "" if found == b"bystander" else "another process cannot be read here"


class Watcher:
    """Watches one trial; `watched` is there after it ended.

    Parameters
    ----------
    tick_ns : int
        From tick to tick, in CPU time of a thread.
    """

    def __init__(self, way: str, tick_ns: int, seed: int = 0) -> None:
        self._way, self._tick_ns, self._seed = way, tick_ns, seed
        self._recorder: Recorder | None = None
        self.watched: Watched | None = None
        self._collects = False

    def attach(self, process: int) -> None:
        """Begin with a process that waits to become the program."""
        clock: ClockEvents | TimerClock
        refused = ""
        try:
            if self._way == TIMER:
                clock = TimerClock(process, self._tick_ns)
            else:
                clock = ClockEvents(process, self._tick_ns, self._way == USER_CLOCK)
        except OSError as error:  # it worked when it was tried; the rings of many processors may be too much
            refused = error.strerror or str(error)
            self._tick_ns = max(self._tick_ns, _TIMER_TICK_NS)
            clock = TimerClock(process, self._tick_ns)
        self._collects = gc.isenabled()
        gc.disable()  # a collection takes longer than a tick
        self._recorder = Recorder(process, clock, self._tick_ns, self._seed)
        if refused:
            self._recorder.tell(f"the kernel's clock: {refused}; a timer was used instead")

    @property
    def fds(self) -> list[int]:
        """What becomes readable when there is something to do."""
        return self._recorder.fds if self._recorder else []

    @property
    def wait_ms(self) -> float:
        """How long to wait for that, at most."""
        return self._recorder.wait_ms if self._recorder else 1000.0

    def step(self) -> None:
        """Do it."""
        if self._recorder:
            self._recorder.step()

    def ended(self) -> None:
        """The trial is over."""
        if self._recorder:
            self.watched = self._recorder.finish()
            self._recorder = None
        if self._collects:
            gc.enable()
