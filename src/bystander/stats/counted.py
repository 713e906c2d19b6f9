"""Contrasts that are too many to write out: order statistics are found by counting.

Where a contrast of some rank lies is guessed by a sketch, a sorted sample of all of them; few lie about there, and they
are counted, written out and picked from. Where the guess is wrong the ends are narrowed down by counting alone.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from bystander.stats.null import Null

__all__ = ["Counted", "CountedContrasts", "Partners", "middles", "thinned"]

_THINNED = 8  # of the sketch only so much is kept, as many rows are held at once
Floats = NDArray[np.float64]
Counts = NDArray[np.int64]


def _spans(first: Counts, last: Counts) -> tuple[Counts, Counts]:
    """Return all (i, j) with first[i] <= j < last[i], where first <= last, as two arrays."""
    lengths = last - first
    owner = np.arange(lengths.size).repeat(lengths)
    return owner, np.arange(owner.size) + (last - lengths.cumsum())[owner]


def middles(size: int, parts: int) -> Counts:
    """Return the places in the middle of so many equal parts of a sample, of every one where it has no more."""
    count = min(size, parts)
    return ((2 * np.arange(count) + 1) * size) // (2 * count)


def thinned(contrasts: Floats) -> Floats:
    """Return what a sketch keeps of the contrasts of its cells: some of them, sorted."""
    return np.sort(contrasts)[_THINNED // 2 :: _THINNED].copy()


@dataclass(frozen=True)
class Partners:
    """Contrasts in K windows: the i-th of one sample with the `first[k, i]`-th up to before the `last[k, i]`-th.

    Attributes
    ----------
    under : ndarray of int, shape (K,)
        How many contrasts are at most the lower end of each window.
    first, last : ndarray of int, shape (K, n)
    """

    under: Counts
    first: Counts
    last: Counts

    @cached_property
    def sizes(self) -> Counts:
        """How many there are in each window, shape (K,)."""
        return np.asarray(np.add.reduce(self.last - self.first, axis=1))

    def only(self, kept: Sequence[bool]) -> Partners:
        """Return some of the windows, none too."""
        these = np.flatnonzero(kept)
        return Partners(self.under[these], self.first[these], self.last[these])

    def pairs(self) -> tuple[Counts, Counts]:
        """Return the places in both samples of all of them, window by window."""
        windows, places = self.first.shape
        owner, partner = _spans(self.first.ravel(), self.last.ravel())
        return owner if windows == 1 else owner % max(1, places), partner


class Counted(Protocol):
    """One side, low or high, of contrasts that are too many to write out."""

    @property
    def sketch(self) -> Floats:
        """Every `_THINNED` of the sorted contrasts of few places, evenly spread over the samples: where to begin."""

    def at_most(self, values: Floats) -> Counts:
        """Count contrasts <= each value, shape (K,)."""

    def at_least(self, values: Floats) -> Counts:
        """Count contrasts >= each value, shape (K,)."""

    def between(self, low: Floats, high: Floats) -> Partners:
        """Return the contrasts above low and at most high, shapes (K,), by their places."""

    def written(self, partners: Partners) -> Floats:
        """Return contrasts by their places, window by window, in any order within one."""


@dataclass(frozen=True)
class CountedContrasts:
    """One row whose contrasts are too many to write out: they are counted, and found by narrowing down.

    Attributes
    ----------
    lows, highs : Counted
        The same object where every difference is known exactly.
    finite : pair of float
        Bounds of all finite contrasts.
    few : int
        So many contrasts are written out at most to find one among them.
    """

    null: Null
    lows: Counted
    highs: Counted
    finite: tuple[float, float]
    few: int

    @property
    def rows(self) -> int:
        """Always one."""
        return 1

    @property
    def exact(self) -> bool:
        """Whether low and high contrasts are the same ones."""
        return self.lows is self.highs

    def count_at_most(self, limits: Floats) -> Counts:
        """Count low contrasts <= each limit, shape (1, K)."""
        return self.lows.at_most(limits[0])[None, :]

    def count_at_least(self, limits: Floats) -> Counts:
        """Count high contrasts >= each limit, shape (1, K)."""
        return self.highs.at_least(limits[0])[None, :]

    def low(self, ranks: Counts) -> Floats:
        """Return the low contrasts of those ranks (from 1), shape (1, K)."""
        return self._selected(self.lows, ranks)

    def high(self, ranks: Counts) -> Floats:
        """Return the high contrasts of those ranks (from 1), shape (1, K)."""
        return self._selected(self.highs, ranks)

    def _selected(self, side: Counted, ranks: Counts) -> Floats:
        """Return the contrasts of some ranks: pick each among those about its place in the sketch, or narrow down."""
        asked: list[int] = ranks[0].tolist()
        windows = _neighbours(asked)
        guesses = [self._guess(side, window) for window in windows]
        seen = side.between(*np.array(guesses).T)
        sizes = seen.under.tolist(), (seen.under + seen.sizes).tolist()
        inside = [
            under < window[0] and window[-1] <= up_to and up_to - under <= self.few
            for window, under, up_to in zip(windows, *sizes, strict=True)
        ]
        if all(inside):
            found = _picked(side, seen, windows)
            return np.array([[found[rank] for rank in asked]])
        found = _picked(side, seen.only(inside), [window for window, good in zip(windows, inside, strict=True) if good])
        for window, good, guess, under, up_to in zip(windows, inside, guesses, *sizes, strict=True):
            if not good:
                found |= {rank: self._narrowed(side, rank, *guess, under, up_to) for rank in window}
        return np.array([[found[rank] for rank in asked]])

    def _narrowed(self, side: Counted, rank: int, below: float, above: float, under: int, up_to: int) -> float:
        """Return the contrast of a rank that does not lie between those ends, or not among few.

        Where very many contrasts are equal the ends meet instead, within 1e-14 of the range.
        """
        below, above, under, up_to = self._bracket(side, rank, below, above, under, up_to)
        if under >= rank:
            return -math.inf
        if up_to < rank:
            return math.inf
        if up_to == under or up_to - under > self.few:
            return above
        return _picked(side, side.between(np.array([below]), np.array([above])), [[rank]])[rank]

    def _bracket(
        self, side: Counted, rank: int, below: float, above: float, under: int, up_to: int
    ) -> tuple[float, float, int, int]:
        """Return ends between which the contrast of a rank lies, above the first, and how many lie up to each.

        They are narrowed down from those given, or widened where it does not lie there.
        """
        lowest, highest = self._ends
        if under >= rank:
            below, above, up_to = lowest, below, under
            under = _at_most(side, below)
        elif up_to < rank:
            below, under, above = above, up_to, highest
            up_to = _at_most(side, above)
        close = 1e-14 * max(above - below, abs(above), abs(below), 1e-300)
        step = 0
        while up_to - under > self.few and above - below > close and under < rank <= up_to:
            # Aim a little to either side of it, so that two steps enclose it closely; every third step halves.
            aim = rank - 0.5 + (self.few // 3) * (-1, 1, 0)[step % 3]
            share = 0.5 if step % 3 == 2 else (aim - under) / (up_to - under)
            middle = below + (above - below) * min(0.98, max(0.02, share))
            count = _at_most(side, middle)
            if count >= rank:
                above, up_to = middle, count
            else:
                below, under = middle, count
            step += 1
        return below, above, under, up_to

    @property
    def _ends(self) -> tuple[float, float]:
        """Values below all finite contrasts, and at most above all."""
        return math.nextafter(self.finite[0], -math.inf), self.finite[1]

    def _guess(self, side: Counted, window: Sequence[int]) -> tuple[float, float]:
        """Return values about some neighbouring ranks, by the sketch.

        Each of those contrasts stands for a cell of pairs. A value cuts through about the square root of twice their
        number of cells, each up to a half off by chance, so that its place is off by about the fourth root at most: a
        third of it is a standard deviation, twice that where the sample has modes.
        """
        (lowest, highest), sketch = self._ends, side.sketch
        off, size = (2 * sketch.size * _THINNED) ** 0.25 / _THINNED + 1, sketch.size
        first = math.floor(window[0] / self.null.total * size - off)
        last = math.ceil(window[-1] / self.null.total * size + off)
        below = math.nextafter(sketch[first], -math.inf) if first >= 0 else lowest  # with all that are equal to it
        above = float(sketch[last]) if last < size else highest
        return min(highest, max(lowest, below)), min(highest, max(lowest, above))


def _neighbours(ranks: Sequence[int]) -> list[list[int]]:
    """Return the ranks in order, those together that follow each other: a median has two."""
    found: list[list[int]] = []
    for rank in sorted(set(ranks)):
        if found and rank == found[-1][-1] + 1:
            found[-1].append(rank)
        else:
            found.append([rank])
    return found


def _at_most(side: Counted, value: float) -> int:
    return int(side.at_most(np.array([value]))[0])


def _picked(side: Counted, partners: Partners, windows: Sequence[Sequence[int]]) -> dict[int, float]:
    """Return the contrasts of the ranks of each window, which lie in it."""
    written, start = side.written(partners), 0
    found: dict[int, float] = {}
    for window, under, size in zip(windows, partners.under.tolist(), partners.sizes.tolist(), strict=True):
        mine = written[start : start + size]
        mine.sort()  # of so few, and by the processor's wide registers, as fast as picking one
        found |= {rank: mine.item(min(rank - under, size) - 1) for rank in window}
        start += size
    return found
