"""Both arms of an inspection as numbers: seconds of places by block, calls, and how the code of a place stands."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from bystander.design import Change, Counts, Edits, Stacks, Standing
from bystander.evidence.compared.called import CallsOfBoth, calls_of_both
from bystander.evidence.compared.matching import Matching
from bystander.evidence.compared.sides import Side, side_of
from bystander.evidence.unwatched import Pairs
from bystander.stats import subset_interval

__all__ = ["Asked", "Both", "Seen"]

_SMALL = 0.005  # of the whole in either arm: smaller places are one
Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
Pair = tuple[Floats, Floats]


@dataclass(frozen=True)
class Seen:
    """What was seen of both arms; the reference comes first.

    Attributes
    ----------
    stacks : pair of sequence of Stacks
        As many in each arm, all to a good end.
    counts : pair of sequence of Counts
    items : pair of mapping
        What the program told of, by name.
    bare : pair of list
        Watched and unwatched times of trials beside each other.
    roots : pair of str
    units : sequence of int
        The block of each trial, from 0 on; one a block where it is empty.
    """

    stacks: tuple[Sequence[Stacks], Sequence[Stacks]]
    counts: tuple[Sequence[Counts], Sequence[Counts]]
    edits: Edits
    roots: tuple[str, str]
    items: tuple[Mapping[str, float], Mapping[str, float]] = field(default_factory=lambda: ({}, {}))
    bare: tuple[Pairs, Pairs] = field(default_factory=lambda: ([], []))
    units: Sequence[int] = ()


@dataclass(frozen=True)
class Asked:
    """How it is decided: whose time, at which risk, the margin as a share; whether only a callable's time counts.

    Attributes
    ----------
    places : bool
        Whether all places are tested and told too, which a look does not need.
    """

    view: str
    risk: float
    margin: float
    rooted: bool = False
    places: bool = True


class Both:
    """Seconds of k places in n blocks under both arms, the reference first: each a pair of arrays of shape (k, n).

    Attributes
    ----------
    part, waited, whole, alone : pair of array
        See `Side`.
    total : pair of array, shape (n,)
    depth : array of int, shape (k,)
    """

    def __init__(self, seen: Seen, asked: Asked) -> None:
        self.seen, self.asked = seen, asked
        self.matching = Matching(seen.edits, seen.roots)
        units = seen.units or range(len(seen.stacks[0]))
        self.sides: tuple[Side, Side] = (
            side_of(seen.stacks[0], units, asked.view, self.matching, 0, asked.rooted),
            side_of(seen.stacks[1], units, asked.view, self.matching, 1, asked.rooted),
        )
        self.calls: CallsOfBoth = calls_of_both(seen.counts, self.matching)
        self.size = len(self.matching)
        before, after = self.sides
        self.part = self._padded(before.part), self._padded(after.part)
        self.waited = self._padded(before.waited), self._padded(after.waited)
        self.whole = self._padded(before.whole), self._padded(after.whole)
        self.alone = self._padded(before.alone), self._padded(after.alone)
        self.total = before.total, after.total
        self.depth = np.full(self.size, 10**6)
        for one in self.sides:
            self.depth[: one.depth.size] = np.minimum(self.depth[: one.depth.size], one.depth)

    def _padded(self, values: Floats) -> Floats:
        return np.concatenate([values, np.zeros((self.size - values.shape[0], values.shape[1]))])

    @property
    def blocks(self) -> int:
        """How many blocks there are."""
        return int(self.total[0].size)

    def scale(self, factor: float) -> None:
        """Multiply all seconds of the candidate."""
        for name in ("part", "waited", "whole", "alone", "total"):
            before, after = getattr(self, name)
            setattr(self, name, (before, after * factor))

    def middle_ratio(self) -> float:
        """Return the median over places of their seconds after over before: what most places say did not change."""
        before, after = (values.mean(axis=1) for values in self.alone)
        large = (before >= _SMALL * before.sum()) & (after >= _SMALL * after.sum())
        return float(np.median(after[large] / before[large])) if large.any() else 1.0

    def large(self, pair: Pair) -> Flags:
        """Tell which places weigh something in either arm; the same whichever arm of a block is which."""
        each, most = np.maximum(*pair).mean(axis=1), float(np.maximum(*self.total).mean())
        return np.asarray(each >= _SMALL * most) if most > 0 else np.zeros(self.size, dtype=bool)

    def change(self, before: Floats, after: Floats) -> Change:
        """Return a change by itself with its interval."""
        low, high = subset_interval(after - before, self.asked.risk)
        return Change(float(before.mean()), float(after.mean()), float((after - before).mean()), low, high)

    def difference(self, difference: Floats) -> Change:
        """Return a part of a change, of which only the difference has a meaning."""
        return self.change(np.zeros_like(difference), difference)

    def is_part(self, k: int) -> bool:
        """Whether a place is of the program and has time of its own."""
        return self.matching.is_home(k) and bool(self.part[0][k].any() or self.part[1][k].any())

    def standing(self, k: int) -> Standing:
        """Return how the code of a place stands; one that is untouched may call what was edited."""
        own = self.matching.standing[k]
        if own is not Standing.UNTOUCHED:
            return own
        calls = self._children.get(k, set())
        return Standing.CALLS_EDITED if any(self.matching.standing[one].is_edit for one in calls) else own

    @cached_property
    def _children(self) -> dict[int, set[int]]:
        found: dict[int, set[int]] = {}
        edges = [*self.calls.before.edges, *self.calls.after.edges]
        for caller, callee in [*self.sides[0].children(), *self.sides[1].children(), *edges]:
            found.setdefault(caller, set()).add(callee)
        return found
