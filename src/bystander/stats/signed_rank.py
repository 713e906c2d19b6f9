"""Paired blocks: Walsh averages and the signed-rank test read from them (Wilcoxon 1945; Tukey 1949)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property, lru_cache
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import Contrasts, SortedContrasts
from bystander.stats.counted import CountedContrasts, Partners, middles, places_in, thinned
from bystander.stats.null import signed_rank_null

__all__ = ["WRITTEN_OUT", "blocks_needed", "blocks_to_reach", "pairs_within", "walsh_contrasts"]

WRITTEN_OUT = 300  # up to so many blocks all averages are held at once
_TOGETHER = 65_536  # averages are written out at once
_STRATA = (100, 300)  # of a sample, for the sketch: the more, the larger it is
Floats = NDArray[np.float64]
Counts = NDArray[np.int64]


def walsh_contrasts(low: Floats, high: Floats) -> Contrasts:
    """Return the averages of all pairs (each with itself too) of block differences.

    Parameters
    ----------
    low, high : ndarray, shape (R, n)
        Ends of the difference in each block, equal where both trials ended well; low may be -inf and
        high may be +inf.

    Raises
    ------
    ValueError
        Without blocks, or with NaN.
    """
    n = low.shape[1]
    if n == 0 or np.isnan(low).any() or np.isnan(high).any():
        raise ValueError("block differences must be numbers, one at least")
    null, exact = signed_rank_null(n), low is high or np.array_equal(low, high)
    if n <= WRITTEN_OUT:
        lows = _averages(low)
        highs = lows if exact else _averages(high)
        return SortedContrasts(null, lows, highs)
    lows = np.sort(low, axis=1)
    highs = lows if exact else np.sort(high, axis=1)
    known = np.concatenate([np.where(np.isfinite(side), side, 0.0) for side in (lows, highs)], axis=1)
    ends = np.minimum(0, known.min(axis=1)), np.maximum(0, known.max(axis=1))
    first = _Averages(lows)
    return CountedContrasts(null, first, first if exact else _Averages(highs), ends, few=24 * n)


@lru_cache(maxsize=32)
def pairs_within(n: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return all pairs (i, j) with i <= j < n, as two arrays."""
    first, second = np.triu_indices(n)
    return first, second


@lru_cache(maxsize=32)
def _strata(n: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return pairs of places that stand in the middle of equal parts of n places.

    A part paired with itself has half as many pairs as two parts have, so that every second one is taken.
    """
    fewest, most = _STRATA
    places = middles(n, max(fewest, min(most, n // 7)))
    first, second = pairs_within(places.size)
    kept = (first != second) | (first % 2 == 0)
    return places[first[kept]], places[second[kept]]


def _averages(d: Floats) -> Floats:
    """Return the averages of all pairs, sorted along the rows, a few rows at a time: they stay in the caches so."""
    first, second = pairs_within(d.shape[1])
    halves = d / 2
    averages: Floats = np.empty((d.shape[0], first.size))
    step = max(1, _TOGETHER // first.size)
    for start in range(0, d.shape[0], step):
        part, into = halves[start : start + step], averages[start : start + step]
        np.add(part[:, first], part[:, second], out=into)
        into.sort(axis=1)
    return averages


@dataclass(frozen=True)
class _Averages:
    """The averages of all pairs of sorted samples, shape (R, n), counted in n log n."""

    ordered: Floats

    @cached_property
    def sketch(self) -> Floats:
        first, second = _strata(self.ordered.shape[1])
        return thinned((np.take(self.ordered, first, axis=1) + np.take(self.ordered, second, axis=1)) / 2)

    # Of a pair whose average is at most a value, one is at most that value itself: half of the places will do.

    def at_most(self, values: Floats) -> Counts:
        mine, own = self._up_to(values)
        partners = places_in(self.ordered, 2 * values[:, :, None] - mine[:, None, :], after_equals=True)
        return np.asarray(np.add.reduce(np.maximum(partners - own, 0), axis=2))

    def at_least(self, values: Floats) -> Counts:
        start = int(np.count_nonzero(self.ordered < values.min(axis=1, keepdims=True), axis=1).min())
        mine, up_to_own = self.ordered[:, start:][:, ::-1], np.arange(self.ordered.shape[1], start, -1)
        partners = places_in(self.ordered, 2 * values[:, :, None] - mine[:, None, :], after_equals=False)
        return np.asarray(np.add.reduce(np.maximum(up_to_own - partners, 0), axis=2))

    def between(self, low: Floats, high: Floats) -> Partners:
        mine, own = self._up_to(high)
        limits = 2 * np.concatenate([low, high], axis=1)[:, :, None] - mine[:, None, :]
        # Each pair once, by its smaller place.
        places = np.maximum(places_in(self.ordered, limits, after_equals=True), own)
        first = places[:, : low.shape[1]]
        last = np.maximum(places[:, low.shape[1] :], first)
        return Partners(np.asarray(np.add.reduce(first - own, axis=2)), first, last)

    def _up_to(self, values: Floats) -> tuple[Floats, Counts]:
        """Return what is at most the largest value, shape (R, m), and its places, from the last one down."""
        some = int(np.count_nonzero(self.ordered <= values.max(axis=1, keepdims=True), axis=1).max())
        return self.ordered[:, :some][:, ::-1], np.arange(some - 1, -1, -1)

    def written(self, partners: Partners) -> Floats:
        mine, other = partners.values(self.ordered[:, : partners.first.shape[2]][:, ::-1], self.ordered)
        mine += other
        mine /= 2
        return mine

    def row(self, place: int) -> _Averages:
        return _Averages(self.ordered[place : place + 1])


def blocks_to_reach(p: float, blocks: int, level: float) -> int:
    """Return in how many blocks a change that gave p in so many would be shown at a level in 8 of 10 cases.

    By the normal approximation, in which the deviate of p grows with the square root of the blocks; never fewer than
    could show anything at that level.

    Parameters
    ----------
    p : float
        Two-sided, in (0, 1).
    """
    normal = NormalDist()
    seen, wanted = -normal.inv_cdf(p / 2), normal.inv_cdf(1 - level / 2) + normal.inv_cdf(0.8)
    return max(blocks_needed(1, level), math.ceil(blocks * (wanted / seen) ** 2)) if seen > 0 else blocks


def blocks_needed(comparisons: int, risk: float) -> int:
    """Return the fewest blocks in which one of so many comparisons could ever be shown changed.

    The smallest two-sided p of n blocks is 2^(1-n); it must reach risk / comparisons.
    """
    return 1 + math.ceil(math.log2(comparisons) - math.log2(risk) - 1e-12)
