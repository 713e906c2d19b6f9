"""One function looked at closely: how often each of its lines runs, and its calls by what they are given."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from bystander.design.inside.watched import Place

__all__ = ["CLOSELY", "ClosePlace", "CloseUp", "Closely", "GivenLine", "Parameter"]

CLOSELY = "closely"  # the purpose of a run, and the kind of its evidence


class Parameter(NamedTuple):
    """One parameter of a function, over all calls of a trial.

    Attributes
    ----------
    distinct : int
        Values that are not alike.
    objects : tuple of str
        Types of values that are told apart by which object they are, not by what they hold.
    cut : bool
        Whether some held more than is looked at: these count as one.
    """

    name: str
    distinct: int
    objects: tuple[str, ...] = ()
    cut: bool = False


@dataclass(frozen=True)
class ClosePlace:
    """One function in one trial, all threads and processes together.

    Attributes
    ----------
    calls, resumed : int
        How often it was called; how often it was gone on with after it had given a value or waited.
    lines : tuple of (int, int)
        Line, and how often it ran.
    distinct : int or None
        How many calls were given what no other was; None where that was not counted.
    most : int
        Calls that were given the same, of what was given most often.
    more : bool
        Whether there were more distinct ones than are counted: then `distinct` is the least.
    """

    place: Place
    calls: int
    resumed: int = 0
    lines: tuple[tuple[int, int], ...] = ()
    distinct: int | None = None
    most: int = 0
    more: bool = False
    parameters: tuple[Parameter, ...] = ()


@dataclass(frozen=True)
class Closely:
    """What one trial told of the functions that were meant."""

    places: tuple[ClosePlace, ...]
    processes: int = 1
    problems: tuple[str, ...] = ()


class GivenLine(NamedTuple):
    """A line that ran: how often, how often for one call, its text, and how its count stands to known sizes."""

    line: int
    runs: int
    each: float | None
    text: str
    said: str


@dataclass(frozen=True)
class CloseUp:
    """One function under one arm, looked at closely.

    Attributes
    ----------
    run : str
        The run that counted.
    root : str
        The arm's folder.
    seen : ClosePlace
    repeats : bool or None
        Whether two trials told the same; None where there was one.
    lines : tuple of GivenLine
        Those that ran, in order.
    items : mapping
        What the program tells of, a trial.
    sentences, about : tuple of str
        What the counts say by themselves; and what limits them.
    """

    run: str
    workload: str
    arm: str
    root: str
    seen: ClosePlace
    repeats: bool | None
    lines: tuple[GivenLine, ...] = ()
    items: tuple[tuple[str, float], ...] = ()
    sentences: tuple[str, ...] = ()
    about: tuple[str, ...] = ()
