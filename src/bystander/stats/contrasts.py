"""What the paired and the unpaired method share: counts and order statistics of contrasts.

A contrast is an average of two block differences (paired) or a difference between two trials
(unpaired). Estimate, p, equivalence and interval are all read from the sorted contrasts, so they
never contradict each other. A failed trial makes its contrasts uncertain, from a low to a high
value: lower ends come from the low ones, upper ends from the high ones.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from bystander.stats.null import Null

__all__ = [
    "Contrasts",
    "Counted",
    "CountedContrasts",
    "Examination",
    "Partners",
    "SortedContrasts",
    "estimates",
    "examine",
    "interval",
    "middles",
    "p_and_e",
    "spans",
    "thinned",
]

_THINNED = 8  # of the sketch only so much is kept, as many rows are held at once
Floats = NDArray[np.float64]
Counts = NDArray[np.int64]


class Contrasts(Protocol):
    """Contrasts of R rows, each row with `null.total` of them."""

    @property
    def null(self) -> Null:
        """The distribution of their counts when nothing differs."""

    @property
    def rows(self) -> int:
        """The number of rows, R."""

    @property
    def exact(self) -> bool:
        """Whether low and high contrasts are the same ones."""

    def count_at_most(self, limit: Floats) -> Counts:
        """Count low contrasts <= limit, per row; limit has shape (R,)."""

    def count_at_least(self, limit: Floats) -> Counts:
        """Count high contrasts >= limit, per row; limit has shape (R,)."""

    def low(self, rank: Counts) -> Floats:
        """Return the low contrast of that rank (from 1), per row."""

    def high(self, rank: Counts) -> Floats:
        """Return the high contrast of that rank (from 1), per row."""


@dataclass(frozen=True)
class SortedContrasts:
    """All contrasts written out and sorted: arrays of shape (R, null.total)."""

    null: Null
    lows: Floats
    highs: Floats

    @property
    def rows(self) -> int:
        """The number of rows, R."""
        return int(self.lows.shape[0])

    @property
    def exact(self) -> bool:
        """Whether low and high contrasts are the same ones."""
        return self.lows is self.highs

    def count_at_most(self, limit: Floats) -> Counts:
        """Count low contrasts <= limit, per row."""
        counts: Counts = np.count_nonzero(self.lows <= limit[:, None], axis=1)
        return counts

    def count_at_least(self, limit: Floats) -> Counts:
        """Count high contrasts >= limit, per row."""
        counts: Counts = np.count_nonzero(self.highs >= limit[:, None], axis=1)
        return counts

    def low(self, rank: Counts) -> Floats:
        """Return the low contrast of that rank (from 1), per row."""
        picked: Floats = np.take_along_axis(self.lows, rank[:, None] - 1, axis=1)[:, 0]
        return picked

    def high(self, rank: Counts) -> Floats:
        """Return the high contrast of that rank (from 1), per row."""
        picked: Floats = np.take_along_axis(self.highs, rank[:, None] - 1, axis=1)[:, 0]
        return picked


def spans(first: Counts, last: Counts) -> tuple[Counts, Counts]:
    """Return all (i, j) with first[i] <= j < last[i], as two arrays."""
    lengths = np.maximum(last - first, 0)
    owner = np.repeat(np.arange(first.size), lengths)
    offset = np.arange(owner.size) - np.repeat(np.cumsum(lengths) - lengths, lengths)
    return owner, first[owner] + offset


def middles(size: int, parts: int) -> Counts:
    """Return the places in the middle of so many equal parts of a sample, of every one where it has no more."""
    count = min(size, parts)
    return ((2 * np.arange(count) + 1) * size) // (2 * count)


def thinned(contrasts: Floats) -> Floats:
    """Return what a sketch keeps of the contrasts of its cells: some of them, sorted."""
    return np.sort(contrasts)[_THINNED // 2 :: _THINNED].copy()


@dataclass(frozen=True)
class Partners:
    """Contrasts between two values: the i-th of one sample with the `first[i]`-th up to before the `last[i]`-th.

    Attributes
    ----------
    under : int
        How many contrasts are at most the lower value.
    """

    under: int
    first: Counts
    last: Counts

    @property
    def size(self) -> int:
        """How many there are."""
        return int((self.last - self.first).sum())


class Counted(Protocol):
    """One side, low or high, of contrasts that are too many to write out."""

    @property
    def sketch(self) -> Floats:
        """Every `_THINNED` of the sorted contrasts of few places, evenly spread over the samples: where to begin."""

    def at_most(self, value: float) -> int:
        """Count contrasts <= value."""

    def at_least(self, value: float) -> int:
        """Count contrasts >= value."""

    def between(self, low: float, high: float) -> Partners:
        """Return the contrasts above low and at most high by their places."""

    def written(self, partners: Partners) -> Floats:
        """Return contrasts by their places, in any order."""


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
    _written: dict[int, tuple[int, Floats]] = field(default_factory=dict, compare=False)

    @property
    def rows(self) -> int:
        """Always one."""
        return 1

    @property
    def exact(self) -> bool:
        """Whether low and high contrasts are the same ones."""
        return self.lows is self.highs

    def count_at_most(self, limit: Floats) -> Counts:
        """Count low contrasts <= limit."""
        return np.array([self.lows.at_most(float(limit[0]))])

    def count_at_least(self, limit: Floats) -> Counts:
        """Count high contrasts >= limit."""
        return np.array([self.highs.at_least(float(limit[0]))])

    def low(self, rank: Counts) -> Floats:
        """Return the low contrast of that rank."""
        return np.array([self._select(self.lows, int(rank[0]))])

    def high(self, rank: Counts) -> Floats:
        """Return the high contrast of that rank."""
        return np.array([self._select(self.highs, int(rank[0]))])

    def _select(self, side: Counted, rank: int) -> float:
        """Return the contrast of a rank: pick it among those about its place in the sketch, or narrow down to it.

        Where very many contrasts are equal the ends meet instead, within 1e-14 of the range.
        """
        under, left = self._written.get(id(side), (0, np.empty(0)))
        if not under < rank <= under + left.size:  # else it is the next one of that found before, as a median wants
            below, above = self._guess(side, rank)
            found = side.between(below, above)
            up_to = found.under + found.size
            if not found.under < rank <= up_to or found.size > self.few:
                below, above, under, up_to = self._bracket(side, rank, below, above, found.under, up_to)
                if under >= rank:
                    return -np.inf
                if up_to < rank:
                    return np.inf
                if up_to == under or up_to - under > self.few:
                    return above
                found = side.between(below, above)
            under, left = found.under, side.written(found)
        place = min(rank - under, left.size) - 1
        around = [place, min(place + 1, left.size - 1)]
        kept = np.partition(left, around)[place : place + 2].copy()
        self._written[id(side)] = under + place, kept
        return float(kept[0])

    def _bracket(
        self, side: Counted, rank: int, below: float, above: float, under: int, up_to: int
    ) -> tuple[float, float, int, int]:
        """Return ends between which the contrast of a rank lies, above the first, and how many lie up to each.

        They are narrowed down from those given, or widened where it does not lie there.
        """
        lowest, highest = self._ends
        if under >= rank:
            below, above, up_to = lowest, below, under
            under = side.at_most(below)
        elif up_to < rank:
            below, under, above = above, up_to, highest
            up_to = side.at_most(above)
        close = 1e-14 * max(above - below, abs(above), abs(below), 1e-300)
        step = 0
        while up_to - under > self.few and above - below > close and under < rank <= up_to:
            # Aim a little to either side of it, so that two steps enclose it closely; every third step halves.
            aim = rank - 0.5 + (self.few // 3) * (-1, 1, 0)[step % 3]
            share = 0.5 if step % 3 == 2 else (aim - under) / (up_to - under)
            middle = below + (above - below) * min(0.98, max(0.02, share))
            count = side.at_most(middle)
            if count >= rank:
                above, up_to = middle, count
            else:
                below, under = middle, count
            step += 1
        return below, above, under, up_to

    @property
    def _ends(self) -> tuple[float, float]:
        """Values below all finite contrasts, and at most above all."""
        return float(np.nextafter(self.finite[0], -np.inf)), self.finite[1]

    def _guess(self, side: Counted, rank: int) -> tuple[float, float]:
        """Return values about a rank, by the sketch.

        Each of those contrasts stands for a cell of pairs. A value cuts through about the square root of twice their
        number of cells, each up to a half off by chance, so that its place is off by about the fourth root at most: a
        third of it is a standard deviation, twice that where the sample has modes.
        """
        (lowest, highest), sketch = self._ends, side.sketch
        cells = sketch.size * _THINNED
        place, off = rank / self.null.total * sketch.size, (2 * cells) ** 0.25 / _THINNED + 1
        first, last = math.floor(place - off), math.ceil(place + off)
        below = float(np.nextafter(sketch[first], -np.inf)) if first >= 0 else lowest  # with all that are equal to it
        above = float(sketch[last]) if last < sketch.size else highest
        return min(highest, max(lowest, below)), min(highest, max(lowest, above))


@dataclass(frozen=True)
class Examination:
    """What the contrasts of R rows say; every array has shape (R,).

    Attributes
    ----------
    estimate : ndarray
        Median of the contrasts (Hodges and Lehmann 1963); the middle of its low and high form where
        failed trials part them, NaN where one of them is infinite.
    leans : ndarray of int
        1 where an increase is the likelier, -1 for a decrease, 0 for neither; defined without an estimate too.
    p : ndarray
        Two-sided p of "nothing differs", in (0, 1].
    e : ndarray
        p of "differs by the limit or more" (two one-sided tests, Schuirmann 1987).
    """

    estimate: Floats
    leans: Counts
    p: Floats
    e: Floats


def examine(contrasts: Contrasts, limit: Floats) -> Examination:
    """Return estimate, p and e of each row.

    Parameters
    ----------
    contrasts : Contrasts
    limit : ndarray, shape (R,)
        The margin on the scale of the contrasts, >= 0. At 0 only differences other than 0 count
        against equivalence.
    """
    null, not_above, not_below = contrasts.null, *_counts(contrasts)
    p, e = _p(null, not_above, not_below), _e(contrasts, limit)
    return Examination(estimates(contrasts), np.sign(not_below - not_above), p, e)


def p_and_e(contrasts: Contrasts, limit: Floats) -> tuple[Floats, Floats]:
    """Return p and e of each row as `examine` does, and nothing else."""
    return _p(contrasts.null, *_counts(contrasts)), _e(contrasts, limit)


def _counts(contrasts: Contrasts) -> tuple[Counts, Counts]:
    zero = np.zeros(contrasts.rows)
    return contrasts.count_at_most(zero), contrasts.count_at_least(zero)


def _p(null: Null, not_above: Counts, not_below: Counts) -> Floats:
    return np.minimum(1.0, 2.0 * null.at_most(np.minimum(not_above, not_below)))


def _e(contrasts: Contrasts, limit: Floats) -> Floats:
    # At a margin of 0 a row of zeros lies within it: count what lies beyond only.
    reach = np.where(limit > 0, limit, np.nextafter(0.0, 1.0))
    beyond = np.maximum(contrasts.count_at_most(-reach), contrasts.count_at_least(reach))
    return contrasts.null.at_most(beyond)


def estimates(contrasts: Contrasts) -> Floats:
    """Return the median of the contrasts of each row; see `Examination`."""
    total = contrasts.null.total
    lower = np.full(contrasts.rows, (total + 1) // 2)
    upper = np.full(contrasts.rows, total // 2 + 1)
    with np.errstate(invalid="ignore"):
        if contrasts.exact:
            middle = (contrasts.low(lower) + contrasts.low(upper)) / 2
            return np.where(np.isfinite(middle), middle, np.nan)
        lows = (contrasts.low(lower) + contrasts.low(upper)) / 2
        highs = (contrasts.high(lower) + contrasts.high(upper)) / 2
        middle = np.where(lows == highs, lows, (lows + highs) / 2)
    return np.where(np.isfinite(middle), middle, np.nan)


def interval(contrasts: Contrasts, error: Floats) -> tuple[Floats, Floats]:
    """Return the closed interval of each row at level 1 - error, which p agrees with exactly.

    With c = max{w : P(W <= w) <= error / 2} it is [A_(c+1), A_(M-c)] of the M sorted contrasts, and
    infinite where there is no such c.

    Parameters
    ----------
    error : ndarray, shape (R,)
        One minus the level, in (0, 1].
    """
    total = contrasts.null.total
    cut = np.array([contrasts.null.largest(float(tail) / 2) for tail in error], dtype=np.int64)
    cut = np.minimum(cut, (total - 1) // 2)
    inside = np.maximum(cut, 0)
    low = np.where(cut < 0, -np.inf, contrasts.low(inside + 1))
    high = np.where(cut < 0, np.inf, contrasts.high(total - inside))
    return low, high
