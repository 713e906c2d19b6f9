"""Paired blocks: Walsh averages and the signed-rank test read from them (Wilcoxon 1945; Tukey 1949)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import Contrasts, SortedContrasts
from bystander.stats.counted import CountedContrasts, Partners, middles, thinned
from bystander.stats.null import signed_rank_null

__all__ = ["WRITTEN_OUT", "blocks_needed", "pairs_within", "walsh_contrasts"]

WRITTEN_OUT = 300  # up to so many blocks all averages are held at once
_STRATA = (100, 300)  # of a sample, for the sketch: the more, the larger it is
Floats = NDArray[np.float64]
Counts = NDArray[np.int64]


def walsh_contrasts(low: Floats, high: Floats) -> Contrasts:
    """Return the averages of all pairs (each with itself too) of block differences.

    Parameters
    ----------
    low, high : ndarray, shape (R, n)
        Ends of the difference in each block, equal where both trials ended well; low may be -inf and
        high may be +inf. More than `WRITTEN_OUT` blocks are taken one row at a time (R = 1).

    Raises
    ------
    ValueError
        Without blocks, or with NaN.
    """
    rows, n = low.shape
    if n == 0 or np.isnan(low).any() or np.isnan(high).any():
        raise ValueError("block differences must be numbers, one at least")
    null = signed_rank_null(n)
    if n <= WRITTEN_OUT:
        lows = _averages(low)
        highs = lows if np.array_equal(low, high) else _averages(high)
        return SortedContrasts(null, lows, highs)
    if rows != 1:
        raise ValueError(f"{n} blocks are taken one row at a time, not {rows}")
    lows = highs = np.sort(low[0])
    if not np.array_equal(low, high):
        highs = np.sort(high[0])
    finite = np.concatenate([lows[np.isfinite(lows)], highs[np.isfinite(highs)], [0.0]])
    ends = float(finite.min()), float(finite.max())
    first = _Averages(lows)
    return CountedContrasts(null, first, first if highs is lows else _Averages(highs), ends, few=24 * n)


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
    first, second = pairs_within(d.shape[1])
    averages = (d[:, first] + d[:, second]) / 2
    averages.sort(axis=1)
    return averages


@dataclass(frozen=True)
class _Averages:
    """The averages of all pairs of one sorted sample, counted in n log n."""

    ordered: Floats

    @cached_property
    def sketch(self) -> Floats:
        first, second = _strata(self.ordered.size)
        return thinned((self.ordered[first] + self.ordered[second]) / 2)

    # Of a pair whose average is at most a value, one is at most that value itself: half of the places will do.

    # Limits are looked up from the largest place to the smallest, as a search goes fastest upwards.

    def at_most(self, values: Floats) -> Counts:
        some = int(self.ordered.searchsorted(values.max(), side="right"))
        partners = self.ordered.searchsorted(2 * values[:, None] - self.ordered[:some][::-1], side="right")
        return np.asarray(np.add.reduce(np.maximum(partners - np.arange(some)[::-1], 0), axis=1))

    def at_least(self, values: Floats) -> Counts:
        start = int(self.ordered.searchsorted(values.min(), side="left"))
        partners = self.ordered.searchsorted(2 * values[:, None] - self.ordered[start:][::-1], side="left")
        up_to_own = np.arange(start + 1, self.ordered.size + 1)[::-1]
        return np.asarray(np.add.reduce(np.maximum(up_to_own - partners, 0), axis=1))

    def between(self, low: Floats, high: Floats) -> Partners:
        some = int(self.ordered.searchsorted(high.max(), side="right"))
        own = np.arange(some - 1, -1, -1)
        limits = 2 * np.concatenate([low, high])[:, None] - self.ordered[:some][::-1]
        # Each pair once, by its smaller place.
        places = np.maximum(self.ordered.searchsorted(limits, side="right"), own)
        first = places[: low.size]
        return Partners(np.add.reduce(first - own, axis=1), first, np.maximum(places[low.size :], first))

    def written(self, partners: Partners) -> Floats:
        mine, partner = partners.pairs()
        return np.asarray((self.ordered[partners.first.shape[1] - 1 - mine] + self.ordered[partner]) / 2)


def blocks_needed(comparisons: int, risk: float) -> int:
    """Return the fewest blocks in which one of so many comparisons could ever be shown changed.

    The smallest two-sided p of n blocks is 2^(1-n); it must reach risk / comparisons.
    """
    return 1 + math.ceil(math.log2(comparisons / risk) - 1e-12)
