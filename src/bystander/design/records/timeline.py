"""One trial over time: the instances of its phases, on which thread of which process they ran."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

__all__ = ["BROKEN", "OUTSIDE", "UNBEGUN", "UNENDED", "Lane", "Marks", "Timeline"]

# What can be wrong with marks, as it is kept.
BROKEN, UNBEGUN, UNENDED, OUTSIDE = (
    "broken lines", "ends of nothing", "phases without an end", "outside of the trial",
)  # fmt: skip


@dataclass(frozen=True)
class Lane:
    """A thread of a process; 0 where it is not known."""

    process: int = 0
    thread: int = 0
    title: str = ""


@dataclass(frozen=True)
class Timeline:
    """The phases of a trial; n instances, arrays of n.

    Attributes
    ----------
    names, labels, lanes : tuple
        What the numbers in `name`, `label` and `lane` stand for; the label "" is none.
    begin_ns, end_ns : ndarray of int
        From the start of the trial.
    cpu_ns : ndarray of int
        CPU time of its thread from begin to end; -1 where it was not read.
    name, label, lane : ndarray of int
    around : ndarray of int
        The instance around each one, -1 for none.
    unended : ndarray of bool
        Whether it was begun and never ended; its end is then that of the trial.
    length_ns : int
        How long the trial took.
    """

    names: tuple[str, ...]
    labels: tuple[str, ...]
    lanes: tuple[Lane, ...]
    begin_ns: NDArray[np.int64]
    end_ns: NDArray[np.int64]
    cpu_ns: NDArray[np.int64]
    name: NDArray[np.int64]
    label: NDArray[np.int64]
    lane: NDArray[np.int64]
    around: NDArray[np.int64]
    unended: NDArray[np.bool_]
    length_ns: int

    def __len__(self) -> int:
        return int(self.name.size)


@dataclass(frozen=True)
class Marks:
    """What the program of a trial told of itself in marks and spans.

    Attributes
    ----------
    readings : mapping
        By name: value in the unit given, unit, and which side is better.
    items : mapping
        By name: how much work was done.
    intervals : mapping
        By name: lengths in seconds, in the order in which they were told.
    deadlines : mapping
        By name of intervals, in seconds.
    cost_ns : float
        What all marks together took, where the program said what one takes.
    problems : mapping
        What was wrong (`BROKEN`, `UNBEGUN`, `UNENDED`, `OUTSIDE`, or in words), and how often.
    """

    timeline: Timeline
    readings: Mapping[str, tuple[float, str, str]] = field(default_factory=dict)
    items: Mapping[str, float] = field(default_factory=dict)
    intervals: Mapping[str, NDArray[np.float64]] = field(default_factory=dict)
    deadlines: Mapping[str, float] = field(default_factory=dict)
    cost_ns: float = 0.0
    problems: Mapping[str, int] = field(default_factory=dict)
