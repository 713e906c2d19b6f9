"""Paired blocks: Walsh averages and the signed-rank test read from them (Wilcoxon 1945; Tukey 1949)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import Contrasts, CountedContrasts, SortedContrasts, spans
from bystander.stats.null import signed_rank_null

__all__ = ["WRITTEN_OUT", "blocks_needed", "walsh_contrasts"]

WRITTEN_OUT = 300  # up to so many blocks all averages are held at once
Floats = NDArray[np.float64]


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
    lows, highs = np.sort(low[0]), np.sort(high[0])
    finite = np.concatenate([lows[np.isfinite(lows)], highs[np.isfinite(highs)], [0.0]])
    ends = float(finite.min()), float(finite.max())
    return CountedContrasts(null, _Averages(lows), _Averages(highs), ends, few=8 * n)


@lru_cache(maxsize=32)
def _pairs(n: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    first, second = np.triu_indices(n)
    return first, second


def _averages(d: Floats) -> Floats:
    first, second = _pairs(d.shape[1])
    averages = (d[:, first] + d[:, second]) / 2
    averages.sort(axis=1)
    return averages


@dataclass(frozen=True)
class _Averages:
    """The averages of all pairs of one sorted sample, counted in n log n."""

    ordered: Floats

    def at_most(self, value: float) -> int:
        both = int(np.searchsorted(self.ordered, 2 * value - self.ordered, side="right").sum())
        own = int(np.searchsorted(self.ordered, value, side="right"))
        return (both + own) // 2

    def at_least(self, value: float) -> int:
        size = self.ordered.size
        both = int((size - np.searchsorted(self.ordered, 2 * value - self.ordered, side="left")).sum())
        own = size - int(np.searchsorted(self.ordered, value, side="left"))
        return (both + own) // 2

    def between(self, low: float, high: float) -> Floats:
        first = np.searchsorted(self.ordered, 2 * low - self.ordered, side="right")
        last = np.searchsorted(self.ordered, 2 * high - self.ordered, side="right")
        first = np.maximum(first, np.arange(self.ordered.size))  # each pair once
        mine, partner = spans(first, last)
        averages: Floats = (self.ordered[mine] + self.ordered[partner]) / 2
        return averages


def blocks_needed(comparisons: int, risk: float) -> int:
    """Return the fewest blocks in which one of so many comparisons could ever be shown changed.

    The smallest two-sided p of n blocks is 2^(1-n); it must reach risk / comparisons.
    """
    return 1 + math.ceil(math.log2(comparisons / risk) - 1e-12)
