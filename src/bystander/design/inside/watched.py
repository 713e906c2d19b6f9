"""What was seen of a trial from outside, as it came: readings of threads' frames, and when each ran or waited."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = ["BLOCKED", "ENDED", "PYTHON", "QUEUED", "RUNNING", "WAITS", "Place", "Task", "Watched"]

# What a thread is doing, from a moment on.
RUNNING, QUEUED, BLOCKED, ENDED = range(4)
# What a blocked thread waits for; the first is unknown, the last is the queue for a processor.
WAITS = ("something", "sleep", "lock", "pipe", "socket", "disk", "child", "events", "device", "a processor")

PYTHON = "python"  # the kind of place that is a function of Python; others are words of their own


class Place(NamedTuple):
    """Where a program can be.

    Attributes
    ----------
    kind : str
        "python" for a function; "program", "native", "start", "end", "gap", "unseen", ... for what has no frames.
    name : str
        The function's qualified name, or what else it is.
    file : str
        As the interpreter has it; "" for what has none.
    line : int
        Where the function begins; 0 for none.
    """

    kind: str
    name: str
    file: str = ""
    line: int = 0


class Task(NamedTuple):
    """A thread: numbers of its process, its own, and that of the process that began its process; name and life.

    Times are monotonic, in nanoseconds.
    """

    process: int
    thread: int
    parent: int
    name: str
    began_ns: int
    ended_ns: int


@dataclass(frozen=True)
class Watched:
    """One watched trial.

    Attributes
    ----------
    began_ns, ended_ns : int
        When the program began and ended, monotonic.
    way : str
        How it was watched.
    period_ns : int
        CPU time of a thread from tick to tick.
    places, tasks : tuple
    parent, place, line : array of int
        Nodes of the tree of paths: the node outside it (-1 for none, else an earlier one), its place, and the line.
    at_ns, task, node, tick_ns, wait : array of int
        Readings: when, of which thread, where it was; the tick that it answers (0 for none); and what a thread that
        does not run waits for, as a position in `WAITS`.
    switch_ns, switch_task, switch_state : array of int
        From when on which thread did what: `RUNNING`, ...
    ticks, missed, torn, lost : int
        Ticks of the clock; those that were not answered by a reading; readings that made no sense; records that the
        kernel had no room for.
    problems : mapping
        What could not be seen, as sentences, and how often.
    unwatched_ns : int
        From when a process became Python to its first frame, at most; 0 where there was none.
    """

    began_ns: int
    ended_ns: int
    way: str
    period_ns: int
    places: tuple[Place, ...]
    tasks: tuple[Task, ...]
    parent: NDArray[np.int64]
    place: NDArray[np.int64]
    line: NDArray[np.int64]
    at_ns: NDArray[np.int64]
    task: NDArray[np.int64]
    node: NDArray[np.int64]
    tick_ns: NDArray[np.int64]
    wait: NDArray[np.int64]
    switch_ns: NDArray[np.int64]
    switch_task: NDArray[np.int64]
    switch_state: NDArray[np.int64]
    ticks: int = 0
    missed: int = 0
    torn: int = 0
    lost: int = 0
    problems: Mapping[str, int] = field(default_factory=dict)
    unwatched_ns: int = 0
    interpreters: tuple[str, ...] = ()
