"""How the time and the calls of places grow with an input."""

from __future__ import annotations

import math
from dataclasses import dataclass

from bystander.design.inside.watched import Place
from bystander.design.studies.workloads import Workload

__all__ = ["GROWTH", "Growing", "Grown"]

GROWTH = "growth"  # the purpose of a run


@dataclass(frozen=True)
class Grown:
    """How one place grows.

    Attributes
    ----------
    seconds : tuple of float
        A trial with what it calls, at each size.
    exponent : tuple of float or None
        Of seconds: the exponent and its interval; None where the place took no time at some size.
    calls : tuple of int or None
        At each size; None where they were not counted, or did not repeat.
    calls_exponent : tuple of float or None
        Exponent, least and greatest between neighbouring sizes; None where calls are not known or 0.
    faster : bool
        Whether its seconds are shown to grow faster than the rest of the program.
    since : int
        The position of the smallest size from which on it took time in every block: the exponent is from there on.
    """

    place: Place
    seconds: tuple[float, ...]
    exponent: tuple[float, float, float] | None = None
    calls: tuple[int, ...] | None = None
    calls_exponent: tuple[float, float, float] | None = None
    faster: bool = False
    since: int = 0


@dataclass(frozen=True)
class Growing:
    """How a workload grows with one of its inputs.

    Attributes
    ----------
    run : str
    name : str
        Of the input.
    sizes : tuple of float
        In rising order.
    blocks : int
        In which every size ran to a good end.
    whole : Grown
        Of the trial; its place says nothing.
    places : tuple of Grown
        Those that take at least one percent of the largest trial: what is shown to grow faster first, then the longest.
    root : str
        The arm's folder.
    about : tuple of str
        What limits it.
    """

    run: str
    workload: str
    arm: str
    name: str
    sizes: tuple[float, ...]
    blocks: int
    whole: Grown
    places: tuple[Grown, ...]
    root: str = ""
    about: tuple[str, ...] = ()


def size_of(workload: Workload, name: str) -> float:
    """Return an input as a number above zero; NaN where it is none."""
    try:
        size = float(workload.inputs.get(name, ""))
    except ValueError:
        return math.nan
    return size if math.isfinite(size) and size > 0 else math.nan
