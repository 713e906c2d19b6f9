"""All that was seen of a workload at once: the outline of its paths, and its places with what flows between them."""

from __future__ import annotations

from dataclasses import dataclass

from bystander.design.inside.accounts import Change
from bystander.design.inside.watched import Place

__all__ = ["Branch", "Flow", "FlowPlace", "Outline", "Ribbon"]


@dataclass(frozen=True)
class Branch:
    """A place under those that called it, lines taken together; recursion counts with the outermost.

    Attributes
    ----------
    place : Place
    parent : int
        The position of what calls it, -1 for the outermost.
    depth : int
        From 0 on.
    whole : Change
        Seconds a trial with what it calls; of one state, before and after are alike and nothing is bounded.
    alone_before_s, alone_after_s : float
    smaller : int
        How many places below it are not branches, as they are small.
    smaller_s : (float, float)
        Their seconds before and after, together.
    """

    place: Place
    parent: int
    depth: int
    whole: Change
    alone_before_s: float
    alone_after_s: float
    smaller: int = 0
    smaller_s: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Outline:
    """Where the time of a workload went, path by path.

    Attributes
    ----------
    arms : tuple of str
        One state, or the reference and the candidate.
    whole : Change
        Of all that was seen.
    branches : tuple of Branch
        Each behind what calls it; the largest change first, of one state the longest. Those that weigh at least half a
        percent of the whole, whose intervals hold together.
    smaller, smaller_s
        As of a branch: what lies in none.
    roots : tuple of str
        Folders of the arms.
    """

    run: str
    workload: str
    view: str
    arms: tuple[str, ...]
    whole: Change
    branches: tuple[Branch, ...]
    smaller: int
    smaller_s: tuple[float, float]
    roots: tuple[str, ...]

    @property
    def two(self) -> bool:
        """Whether it is of two states."""
        return len(self.arms) == 2


@dataclass(frozen=True)
class FlowPlace:
    """A place by itself, whoever calls it: seconds a trial with what it calls, and alone."""

    place: Place
    before_s: float
    after_s: float
    alone_s: float


@dataclass(frozen=True)
class Ribbon:
    """Seconds that come into a place from one that calls it, before and after; calls, None where they are not known."""

    caller: int
    callee: int
    before_s: float
    after_s: float
    calls_before: int | None = None
    calls_after: int | None = None


@dataclass(frozen=True)
class Flow:
    """Each place once, and what goes from each to those that it calls; the longest first.

    Attributes
    ----------
    places : tuple of FlowPlace
        Those that weigh something.
    ribbons : tuple of Ribbon
        By positions in `places`.
    left_out : int
        Places that are not shown, as they are small or beyond the first.
    """

    run: str
    workload: str
    view: str
    arms: tuple[str, ...]
    places: tuple[FlowPlace, ...]
    ribbons: tuple[Ribbon, ...]
    left_out: int
