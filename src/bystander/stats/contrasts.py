"""What the paired and the unpaired method share: counts and order statistics of contrasts.

A contrast is an average of two block differences (paired) or a difference between two trials
(unpaired). Estimate, p, equivalence and interval are all read from the sorted contrasts, so they
never contradict each other. A failed trial makes its contrasts uncertain, from a low to a high
value: lower ends come from the low ones, upper ends from the high ones.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from bystander.stats.null import Null

__all__ = ["Contrasts", "Counted", "CountedContrasts", "Examination", "SortedContrasts", "examine", "interval", "spans"]

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


class Counted(Protocol):
    """One side, low or high, of contrasts that are too many to write out."""

    def at_most(self, value: float) -> int:
        """Count contrasts <= value."""

    def at_least(self, value: float) -> int:
        """Count contrasts >= value."""

    def between(self, low: float, high: float) -> Floats:
        """Return the contrasts above low and at most high, in any order."""


@dataclass(frozen=True)
class CountedContrasts:
    """One row whose contrasts are too many to write out: they are counted, and found by narrowing down.

    Attributes
    ----------
    lows, highs : Counted
    finite : pair of float
        Bounds of all finite contrasts.
    few : int
        So many contrasts are written out to find one among them.
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
        """Return the contrast of a rank: halve and interpolate until few are left, then sort those.

        Where very many contrasts are equal the ends meet instead, within 1e-14 of the range.
        """
        below, above = float(np.nextafter(self.finite[0], -np.inf)), self.finite[1]
        under, up_to = side.at_most(below), side.at_most(above)
        if under >= rank:
            return -np.inf
        if up_to < rank:
            return np.inf
        close = 1e-14 * max(above - below, abs(above), abs(below), 1e-300)
        halve = False
        while up_to - under > self.few and above - below > close:
            share = 0.5 if halve else (rank - 0.5 - under) / (up_to - under)
            middle = below + (above - below) * min(0.98, max(0.02, share))
            halve = not halve
            count = side.at_most(middle)
            if count >= rank:
                above, up_to = middle, count
            else:
                below, under = middle, count
        if up_to - under > self.few:
            return above
        left = np.sort(side.between(below, above))
        return float(left[min(rank - under, left.size) - 1]) if left.size else above


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
    null, zero = contrasts.null, np.zeros(contrasts.rows)
    not_above = contrasts.count_at_most(zero)
    not_below = contrasts.count_at_least(zero)
    p = np.minimum(1.0, 2.0 * null.at_most(np.minimum(not_above, not_below)))
    # At a margin of 0 a row of zeros lies within it: count what lies beyond only.
    reach = np.where(limit > 0, limit, np.nextafter(0.0, 1.0))
    e = np.maximum(
        null.at_most(contrasts.count_at_most(-reach)),
        null.at_most(contrasts.count_at_least(reach)),
    )
    return Examination(_estimate(contrasts), np.sign(not_below - not_above), p, e)


def _estimate(contrasts: Contrasts) -> Floats:
    total = contrasts.null.total
    lower = np.full(contrasts.rows, (total + 1) // 2)
    upper = np.full(contrasts.rows, total // 2 + 1)
    with np.errstate(invalid="ignore"):
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
