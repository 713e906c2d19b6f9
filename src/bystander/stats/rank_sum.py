"""Unpaired trials: all differences between two samples (Mann and Whitney 1947; Hodges and Lehmann 1963)."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import Contrasts, CountedContrasts, SortedContrasts
from bystander.stats.null import rank_sum_null

__all__ = ["pairwise_contrasts"]

_WRITTEN_OUT = 250_000
Floats = NDArray[np.float64]


def pairwise_contrasts(reference: tuple[Floats, Floats], candidate: tuple[Floats, Floats]) -> Contrasts:
    """Return candidate minus reference for all pairs of trials, as one row.

    Parameters
    ----------
    reference, candidate : pair of ndarray, shapes (n,) and (k,)
        Low and high ends of each reading, equal where the trial ended well.

    Raises
    ------
    ValueError
        When a sample is empty.
    """
    r_low, r_high = reference
    c_low, c_high = candidate
    if not r_low.size or not c_low.size:
        raise ValueError("both samples need a trial")
    null = rank_sum_null(r_low.size, c_low.size)
    if null.total <= _WRITTEN_OUT:
        lows = np.sort(np.subtract.outer(c_low, r_high).ravel())[None, :]
        highs = np.sort(np.subtract.outer(c_high, r_low).ravel())[None, :]
        return SortedContrasts(null, lows, highs)
    c_lows, c_highs = np.sort(c_low), np.sort(c_high)
    r_lows, r_highs = np.sort(r_low), np.sort(r_high)
    return CountedContrasts(
        null,
        partial(_count_differences, c_lows, r_highs),
        partial(_count_differences, c_highs, r_lows),
        partial(_count_differences_at_least, c_highs, r_lows),
        _bounds(c_lows, c_highs, r_lows, r_highs),
    )


def _bounds(*samples: Floats) -> tuple[float, float]:
    finite = np.concatenate([s[np.isfinite(s)] for s in samples] + [np.zeros(1)])
    reach = float(finite.max() - finite.min())
    return -reach, reach


def _count_differences(upper: Floats, lower: Floats, limit: float) -> int:
    """Count pairs with upper - lower <= limit."""
    return int(np.searchsorted(upper, lower + limit, side="right").sum())


def _count_differences_at_least(upper: Floats, lower: Floats, limit: float) -> int:
    return int((upper.size - np.searchsorted(upper, lower + limit, side="left")).sum())
