"""Contrasts that are too many to write out: order statistics are found by counting.

Where a contrast of some rank lies is guessed by a sketch, a sorted sample of all of them; few lie about there, and they
are counted, written out and picked from. Where the guess is wrong the ends are narrowed down by counting alone. All
arrays hold R rows, as each step costs more by itself than by what it does to one row.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from bystander.stats.null import Null

__all__ = ["Counted", "CountedContrasts", "Partners", "middles", "places_in", "thinned"]

_THINNED = 8  # of the sketch only so much is kept, as many rows are held at once
Floats = NDArray[np.float64]
Counts = NDArray[np.int64]


def middles(size: int, parts: int) -> Counts:
    """Return the places in the middle of so many equal parts of a sample, of every one where it has no more."""
    count = min(size, parts)
    return ((2 * np.arange(count) + 1) * size) // (2 * count)


def thinned(contrasts: Floats) -> Floats:
    """Return what a sketch keeps of the contrasts of its cells, shape (R, n): some of them, sorted."""
    return np.sort(contrasts, axis=1)[:, _THINNED // 2 :: _THINNED].copy()


def places_in(ordered: Floats, values: Floats, *, after_equals: bool) -> Counts:
    """Return how many of each sorted row, shape (R, n), are below each of its values, or at most that; shape (R, ...).

    The values are best given upwards along the last axis, as a search goes fastest so.
    """
    found = np.empty(values.shape, dtype=np.int64)
    for row, wanted, places in zip(ordered, values, found, strict=True):
        places[...] = row.searchsorted(wanted, side="right" if after_equals else "left")
    return found


@dataclass(frozen=True)
class Partners:
    """Contrasts in K windows of each row: the i-th of one sample with the `first[i]`-th up to before the `last[i]`-th.

    Attributes
    ----------
    under : ndarray of int, shape (R, K)
        How many contrasts are at most the lower end of each window.
    first, last : ndarray of int, shape (R, K, n)
        The last at least the first.
    """

    under: Counts
    first: Counts
    last: Counts

    @cached_property
    def sizes(self) -> Counts:
        """How many there are in each window, shape (R, K)."""
        return np.asarray(np.add.reduce(self.last - self.first, axis=2))

    def only(self, kept: NDArray[np.bool_]) -> Partners:
        """Return them with some windows emptied; kept has shape (R, K)."""
        return Partners(self.under, self.first, np.where(kept[:, :, None], self.last, self.first))

    def values(self, mine: Floats, partners: Floats) -> tuple[Floats, Floats]:
        """Return both values of all of them, window by window.

        Parameters
        ----------
        mine, partners : ndarray, shapes (R, n) and (R, m)
            Both samples, sorted.
        """
        lengths = (self.last - self.first).ravel()
        last = (self.last + partners.shape[1] * np.arange(partners.shape[0])[:, None, None]).ravel()
        places = (last - lengths.cumsum()).repeat(lengths)
        places += np.arange(places.size)
        return np.broadcast_to(mine[:, None, :], self.first.shape).ravel().repeat(lengths), partners.ravel()[places]


class Counted(Protocol):
    """One side, low or high, of contrasts that are too many to write out, of R rows."""

    @property
    def sketch(self) -> Floats:
        """Every `_THINNED` of the sorted contrasts of few places, evenly spread over the samples: where to begin."""

    def at_most(self, values: Floats) -> Counts:
        """Count contrasts <= each value, shape (R, K)."""

    def at_least(self, values: Floats) -> Counts:
        """Count contrasts >= each value, shape (R, K)."""

    def between(self, low: Floats, high: Floats) -> Partners:
        """Return the contrasts above low and at most high, shapes (R, K), by their places."""

    def written(self, partners: Partners) -> Floats:
        """Return contrasts by their places, window by window, in any order within one."""

    def row(self, place: int) -> Counted:
        """Return one row by itself."""


@dataclass(frozen=True)
class CountedContrasts:
    """R rows whose contrasts are too many to write out: they are counted, and found by narrowing down.

    Attributes
    ----------
    lows, highs : Counted
        The same object where every difference is known exactly.
    finite : pair of ndarray, shape (R,)
        Bounds of all finite contrasts.
    few : int
        So many contrasts are written out at most to find one among them.
    """

    null: Null
    lows: Counted
    highs: Counted
    finite: tuple[Floats, Floats]
    few: int

    @property
    def rows(self) -> int:
        """The number of rows, R."""
        return int(self.finite[0].size)

    @property
    def exact(self) -> bool:
        """Whether low and high contrasts are the same ones."""
        return self.lows is self.highs

    def count_at_most(self, limits: Floats) -> Counts:
        """Count low contrasts <= each limit, shape (R, K)."""
        return self.lows.at_most(limits)

    def count_at_least(self, limits: Floats) -> Counts:
        """Count high contrasts >= each limit, shape (R, K)."""
        return self.highs.at_least(limits)

    def low(self, ranks: Counts) -> Floats:
        """Return the low contrasts of those ranks (from 1), shape (R, K)."""
        return self._selected(self.lows, ranks)

    def high(self, ranks: Counts) -> Floats:
        """Return the high contrasts of those ranks (from 1), shape (R, K)."""
        return self._selected(self.highs, ranks)

    def _selected(self, side: Counted, ranks: Counts) -> Floats:
        """Return the contrasts of some ranks: pick each among those about its place in the sketch, or narrow down."""
        windows = _neighbours(ranks)
        first, last = (np.stack([ranks[:, w[end]] for w in windows], axis=1) for end in (0, -1))
        below, above = self._guess(side, first, last)
        seen = side.between(below, above)
        up_to = seen.under + seen.sizes
        inside = (seen.under < first) & (last <= up_to) & (seen.sizes <= self.few)
        kept = seen if inside.all() else seen.only(inside)
        written, ends = side.written(kept), kept.sizes.ravel().cumsum().reshape(inside.shape)
        for start, end in zip([0, *ends.ravel().tolist()], ends.ravel().tolist(), strict=False):
            written[start:end].sort()  # so few are sorted as fast as one of them is picked
        owner = [k for k, window in enumerate(windows) for _ in window]
        places = (ends - kept.sizes - seen.under)[:, owner] + ranks - 1
        found = written[np.where(inside[:, owner], places, 0)] if written.size else np.empty(ranks.shape)
        for i, k in np.argwhere(~inside).tolist():
            guessed = float(below[i, k]), float(above[i, k]), int(seen.under[i, k]), int(up_to[i, k])
            for column in windows[k]:
                found[i, column] = self._narrowed(side, i, int(ranks[i, column]), *guessed)
        return found

    def _guess(self, side: Counted, first: Counts, last: Counts) -> tuple[Floats, Floats]:
        """Return values about windows of neighbouring ranks, shape (R, K), by the sketch.

        Each of those contrasts stands for a cell of pairs. A value cuts through about the square root of twice their
        number of cells, each up to a half off by chance, so that its place is off by about the fourth root at most: a
        third of it is a standard deviation, twice that where the sample has modes.
        """
        (lowest, highest), sketch = self._ends, side.sketch
        size = sketch.shape[1]
        off = (2 * size * _THINNED) ** 0.25 / _THINNED + 1
        starts = np.floor(first / self.null.total * size - off).astype(np.int64)
        stops = np.ceil(last / self.null.total * size + off).astype(np.int64)
        below = np.nextafter(np.take_along_axis(sketch, np.maximum(starts, 0), axis=1), -np.inf)  # with all equal ones
        above = np.take_along_axis(sketch, np.minimum(stops, size - 1), axis=1)
        below, above = np.where(starts < 0, lowest, below), np.where(stops >= size, highest, above)
        return np.clip(below, lowest, highest), np.clip(above, lowest, highest)

    @property
    def _ends(self) -> tuple[Floats, Floats]:
        """Values below all finite contrasts, and at most above all, shape (R, 1)."""
        return np.nextafter(self.finite[0], -np.inf)[:, None], self.finite[1][:, None]

    def _narrowed(self, side: Counted, row: int, rank: int, *guessed: float) -> float:
        """Return the contrast of a rank that does not lie between those ends, or not among few.

        Where very many contrasts are equal the ends meet instead, within 1e-14 of the range.

        Parameters
        ----------
        guessed : float
            Both ends, and how many contrasts lie up to each.
        """
        mine, ends = side.row(row), (float(self._ends[0][row, 0]), float(self._ends[1][row, 0]))
        below, above, under, up_to = _bracket(mine, rank, ends, self.few, *guessed)
        if under >= rank:
            return -math.inf
        if up_to < rank:
            return math.inf
        if up_to == under or up_to - under > self.few:
            return above
        written = mine.written(mine.between(np.array([[below]]), np.array([[above]])))
        written.sort()
        return float(written[min(rank - int(under), written.size) - 1])


def _neighbours(ranks: Counts) -> list[list[int]]:
    """Return columns of ranks, shape (R, K), those together that follow each other in all rows: a median has two."""
    found = [[0]]
    for column in range(1, ranks.shape[1]):
        step = ranks[:, column] - ranks[:, column - 1]
        if (step >= 0).all() and (step <= 1).all():
            found[-1].append(column)
        else:
            found.append([column])
    return found


def _at_most(side: Counted, value: float) -> int:
    return int(side.at_most(np.array([[value]]))[0, 0])


def _bracket(
    side: Counted, rank: int, ends: tuple[float, float], few: int, *guessed: float
) -> tuple[float, float, float, float]:
    """Return ends between which the contrast of a rank lies, above the first, and how many lie up to each.

    They are narrowed down from those guessed, or widened where it does not lie there.
    """
    below, above, under, up_to = guessed
    if under >= rank:
        below, above, up_to = ends[0], below, under
        under = _at_most(side, below)
    elif up_to < rank:
        below, under, above = above, up_to, ends[1]
        up_to = _at_most(side, above)
    close = 1e-14 * max(above - below, abs(above), abs(below), 1e-300)
    step = 0
    while up_to - under > few and above - below > close and under < rank <= up_to:
        # Aim a little to either side of it, so that two steps enclose it closely; every third step halves.
        aim = rank - 0.5 + (few // 3) * (-1, 1, 0)[step % 3]
        share = 0.5 if step % 3 == 2 else (aim - under) / (up_to - under)
        middle = below + (above - below) * min(0.98, max(0.02, share))
        count = _at_most(side, middle)
        if count >= rank:
            above, up_to = middle, count
        else:
            below, under = middle, count
        step += 1
    return below, above, under, up_to
