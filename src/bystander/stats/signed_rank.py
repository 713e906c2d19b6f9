"""Paired blocks: Walsh averages and the signed-rank test read from them (Wilcoxon 1945; Tukey 1949)."""

from __future__ import annotations

import math
from functools import lru_cache, partial

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import Contrasts, CountedContrasts, SortedContrasts
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
    return CountedContrasts(
        null,
        partial(_count_averages, lows),
        partial(_count_averages, highs),
        partial(_count_averages_at_least, highs),
        (float(finite.min()), float(finite.max())),
    )


@lru_cache(maxsize=32)
def _pairs(n: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    first, second = np.triu_indices(n)
    return first, second


def _averages(d: Floats) -> Floats:
    first, second = _pairs(d.shape[1])
    averages = (d[:, first] + d[:, second]) / 2
    averages.sort(axis=1)
    return averages


def _count_averages(ordered: Floats, limit: float) -> int:
    """Count averages <= limit of one sorted sample without writing them out, in n log n."""
    both = int(np.searchsorted(ordered, 2 * limit - ordered, side="right").sum())
    own = int(np.searchsorted(ordered, limit, side="right"))
    return (both + own) // 2


def _count_averages_at_least(ordered: Floats, limit: float) -> int:
    both = int((ordered.size - np.searchsorted(ordered, 2 * limit - ordered, side="left")).sum())
    own = ordered.size - int(np.searchsorted(ordered, limit, side="left"))
    return (both + own) // 2


def blocks_needed(comparisons: int, risk: float) -> int:
    """Return the fewest blocks in which one of so many comparisons could ever be shown changed.

    The smallest two-sided p of n blocks is 2^(1-n); it must reach risk / comparisons.
    """
    return 1 + math.ceil(math.log2(comparisons / risk) - 1e-12)
