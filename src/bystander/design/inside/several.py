"""One state in many trials: how its places grow with an input, and where its slow trials are slow."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from bystander.design.inside.accounts import Change
from bystander.design.inside.watched import Place
from bystander.design.studies.workloads import Workload

__all__ = ["GROWTH", "SLOW", "Growing", "Grown", "SlowPlace", "SlowTrials", "size_of"]

GROWTH, SLOW = "growth", "slow"  # purposes of runs


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


class SlowPlace(NamedTuple):
    """A place with the libraries that it calls: seconds in typical trials, then in slow ones; p over all places."""

    place: Place
    seconds: Change
    p: float


@dataclass(frozen=True)
class SlowTrials:
    """Slow trials beside typical ones.

    Attributes
    ----------
    run, workload, arm : str
    trials, slow : int
        That were watched, and of them slow.
    end_s : float
        Beyond which a trial is slow.
    middle_s : float
        The median of all.
    whole : Change
        Of a trial: typical, then slow.
    places : tuple of SlowPlace
        Parts that are disjoint and sum to the whole, the largest difference first.
    waits : mapping
        By what was waited for: seconds in typical trials, then in slow ones.
    root : str
    seed : int
        Of the regroupings that were drawn.
    about : tuple of str
    """

    run: str
    workload: str
    arm: str
    trials: int
    slow: int
    end_s: float
    middle_s: float
    whole: Change
    places: tuple[SlowPlace, ...]
    waits: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    root: str = ""
    seed: int = 0
    about: tuple[str, ...] = ()

    @property
    def shown(self) -> tuple[SlowPlace, ...]:
        """The places in which slow trials are shown to differ."""
        return tuple(one for one in self.places if one.seconds.shown)
