"""Unpaired trials: all differences between two samples (Mann and Whitney 1947; Hodges and Lehmann 1963)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import Contrasts, SortedContrasts
from bystander.stats.counted import CountedContrasts, Partners, middles, thinned
from bystander.stats.null import rank_sum_null

__all__ = ["pairwise_contrasts"]

_WRITTEN_OUT = 250_000
_STRATA = 100  # of a sample, for the sketch
Floats = NDArray[np.float64]
Counts = NDArray[np.int64]


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
    ends = _bounds(c_lows, c_highs, r_lows, r_highs)
    few = 24 * (c_lows.size + r_lows.size)
    return CountedContrasts(null, _Differences(c_lows, r_highs), _Differences(c_highs, r_lows), ends, few)


def _bounds(*samples: Floats) -> tuple[float, float]:
    finite = np.concatenate([s[np.isfinite(s)] for s in samples] + [np.zeros(1)])
    reach = float(finite.max() - finite.min())
    return -reach, reach


@dataclass(frozen=True)
class _Differences:
    """All differences upper - lower of two sorted samples, counted in n log n."""

    upper: Floats
    lower: Floats

    @cached_property
    def sketch(self) -> Floats:
        upper, lower = (side[middles(side.size, _STRATA)] for side in (self.upper, self.lower))
        with np.errstate(invalid="ignore"):
            return thinned(np.subtract.outer(upper, lower).ravel())

    def at_most(self, values: Floats) -> Counts:
        return np.asarray(self.upper.searchsorted(self.lower + values[:, None], side="right").sum(axis=1))

    def at_least(self, values: Floats) -> Counts:
        below = self.upper.searchsorted(self.lower + values[:, None], side="left")
        return np.asarray((self.upper.size - below).sum(axis=1))

    def between(self, low: Floats, high: Floats) -> Partners:
        first = self.upper.searchsorted(self.lower + low[:, None], side="right")
        last = np.maximum(self.upper.searchsorted(self.lower + high[:, None], side="right"), first)
        return Partners(first.sum(axis=1), first, last)

    def written(self, partners: Partners) -> Floats:
        mine, partner = partners.pairs()
        return np.asarray(self.upper[partner] - self.lower[mine])
