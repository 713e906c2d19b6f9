"""What is kept of a watched trial: where each thread was, how long it ran and waited there, and the whole followed."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from bystander.design.inside.watched import Place, Task

__all__ = ["COUNTED", "COUNTS", "INSPECTED", "STACKS", "UNWATCHED", "CallEdge", "Counts", "Stacks"]

STACKS = "stacks"  # kinds of evidence
COUNTS = "counts"
UNWATCHED = "unwatched"
# Purposes of runs.
INSPECTED, COUNTED = "inspected", "counted"


@dataclass(frozen=True)
class Stacks:
    """One trial.

    Attributes
    ----------
    places, tasks : tuple
        A task's times are in ns since the beginning.
    parent, place, line : array of int
        Nodes of the tree of paths, each behind the one outside it (-1 for none).
    at_ns, task, node : array of int
        Readings: when, of which thread, where it was.
    processor_ns, queued_ns, waiting_ns : array of int
        The time that stands for each reading: on a processor, in the queue for one, and waiting for something else.
    wait : array of int
        For what, as a position in `WAITS`.
    elapsed_node, elapsed_task, elapsed_wait, elapsed_ns : array of int
        The main thread's time from beginning to end, followed into the thread or child that it waits for: where, of
        which thread, waiting for what (-1 on a processor), and how long.
    length_ns, period_ns : int
        From the beginning to the end; CPU time from tick to tick.
    """

    places: tuple[Place, ...]
    tasks: tuple[Task, ...]
    parent: NDArray[np.int64]
    place: NDArray[np.int64]
    line: NDArray[np.int64]
    at_ns: NDArray[np.int64]
    task: NDArray[np.int64]
    node: NDArray[np.int64]
    processor_ns: NDArray[np.int64]
    queued_ns: NDArray[np.int64]
    waiting_ns: NDArray[np.int64]
    wait: NDArray[np.int64]
    elapsed_node: NDArray[np.int64]
    elapsed_task: NDArray[np.int64]
    elapsed_wait: NDArray[np.int64]
    elapsed_ns: NDArray[np.int64]
    length_ns: int
    period_ns: int


class CallEdge(NamedTuple):
    """How often a place was called from a line of another: positions of places (-1 for nobody's), line, calls.

    `inner` of them came while the place was running already: recursion. `resumed` tells how often it was gone on with
    after it had given a value or waited, as generators and coroutines are; these are no calls.
    """

    caller: int
    line: int
    callee: int
    calls: int
    inner: int = 0
    resumed: int = 0


@dataclass(frozen=True)
class Counts:
    """The calls of one trial, all of its Python processes and threads together; a built-in's place has no file."""

    places: tuple[Place, ...]
    edges: tuple[CallEdge, ...]
    processes: int = 1
    problems: tuple[str, ...] = field(default_factory=tuple)
