"""What is asked of kept inspections by those who go into them: neighbours of a place, the way down, seconds by line."""

from __future__ import annotations

from dataclasses import dataclass

from bystander.design.inside.accounts import Change
from bystander.design.inside.watched import Place

__all__ = ["Beside", "BesideRow", "Down", "LineOf", "LinesOf", "Neighbour", "Neighbours", "Step"]


@dataclass(frozen=True)
class Neighbour:
    """A place that calls the one that is asked about, or is called by it.

    Attributes
    ----------
    place : Place or None
        None for the place itself, or where nobody is seen around it.
    seconds : Change
        A trial: of what is asked about, under this caller; or of what it calls there. Of one state, before and after
        are alike.
    calls_before, calls_after : int or None
        From the one to the other; None where calls were not counted, or did not repeat.
    each_before, each_after : float or None
        The same for one call of the caller.
    """

    place: Place | None
    seconds: Change
    calls_before: int | None = None
    calls_after: int | None = None
    each_before: float | None = None
    each_after: float | None = None


@dataclass(frozen=True)
class Neighbours:
    """Who calls a place, or what it calls; parts that are disjoint and sum to its whole.

    Attributes
    ----------
    above : bool
        Whether these are its callers.
    places : tuple of Place
        What is asked about.
    arms : tuple of str
        One state, or the reference and the candidate.
    whole : Change
    rows : tuple of Neighbour
        The largest change first; of one state the longest.
    roots : tuple of str
        Folders of the arms.
    """

    run: str
    workload: str
    view: str
    above: bool
    places: tuple[Place, ...]
    arms: tuple[str, ...]
    whole: Change
    rows: tuple[Neighbour, ...]
    roots: tuple[str, ...]


@dataclass(frozen=True)
class Step:
    """A place on the way down, and its seconds a trial with what it calls, on this way."""

    place: Place
    whole_s: float


@dataclass(frozen=True)
class Down:
    """The way to where the time is spent, in one arm: each step is the longest part of the one before.

    Attributes
    ----------
    alone_s : float
        Of the last step, without what it calls.
    total_s : float
        Of all that was looked at.
    """

    run: str
    workload: str
    arm: str
    view: str
    steps: tuple[Step, ...]
    alone_s: float
    total_s: float


@dataclass(frozen=True)
class LineOf:
    """A line of a place: seconds a trial with what it calls and without, and its text where that can be read."""

    line: int
    whole_s: float
    alone_s: float
    text: str | None = None


@dataclass(frozen=True)
class LinesOf:
    """One function in one arm, line by line.

    Attributes
    ----------
    first, last : int
        Its lines, as far as the source can be read; else those that were seen.
    lines : tuple of LineOf
        Those that took time, in order.
    source : tuple of str
        All its lines from `first` on; empty where they cannot be read.
    about : str
        What limits it: the file is not there, or was written to since.
    """

    run: str
    workload: str
    arm: str
    place: Place
    root: str
    first: int
    last: int
    whole_s: float
    lines: tuple[LineOf, ...]
    source: tuple[str, ...] = ()
    about: str = ""


@dataclass(frozen=True)
class BesideRow:
    """One place in two inspections of other hours; seconds with what it calls, a trial, NaN where it was not met.

    Attributes
    ----------
    calls_then, calls_now : int or None
        None where they were not counted, or did not repeat.
    """

    place: Place
    then_s: float
    now_s: float
    calls_then: int | None
    calls_now: int | None

    @property
    def differs(self) -> bool:
        """Whether its exact calls differ."""
        return self.calls_then is not None and self.calls_now is not None and self.calls_then != self.calls_now


@dataclass(frozen=True)
class Beside:
    """One state of a workload in two inspections of different hours: calls are compared, seconds only shown.

    Attributes
    ----------
    then, now : str
        What was inspected: the inspection, and the arm.
    whole_then_s, whole_now_s : float
        From beginning to end of a watched trial.
    rows : tuple of BesideRow
        Those whose calls differ first, then the longest.
    counted : bool
        Whether calls were counted in both.
    """

    workload: str
    view: str
    then: str
    now: str
    whole_then_s: float
    whole_now_s: float
    rows: tuple[BesideRow, ...]
    counted: bool
    roots: tuple[str, ...]
