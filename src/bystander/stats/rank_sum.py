"""Unpaired trials: all differences between two samples (Mann and Whitney 1947; Hodges and Lehmann 1963)."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import Contrasts, SortedContrasts
from bystander.stats.counted import CountedContrasts, Partners, middles, places_in, thinned
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
    c_lows, c_highs, r_lows, r_highs = (np.sort(side)[None, :] for side in (c_low, c_high, r_low, r_high))
    reach = _reach(c_lows, c_highs, r_lows, r_highs)
    few = 24 * (c_lows.size + r_lows.size)
    return CountedContrasts(null, _Differences(c_lows, r_highs), _Differences(c_highs, r_lows), (-reach, reach), few)


def _reach(*samples: Floats) -> Floats:
    """Return the largest distance between finite values, or of one to 0, shape (1,)."""
    finite = np.concatenate([sample[np.isfinite(sample)] for sample in samples] + [np.zeros(1)])
    return np.array([finite.max() - finite.min()])


@dataclass(frozen=True)
class _Differences:
    """All differences upper - lower of two sorted samples, shapes (R, n) and (R, k), counted in n log n."""

    upper: Floats
    lower: Floats

    @cached_property
    def sketch(self) -> Floats:
        upper, lower = (side[:, middles(side.shape[1], _STRATA)] for side in (self.upper, self.lower))
        with np.errstate(invalid="ignore"):
            return thinned((upper[:, :, None] - lower[:, None, :]).reshape(upper.shape[0], -1))

    def at_most(self, values: Floats) -> Counts:
        return np.asarray(self._places(values, after_equals=True).sum(axis=2))

    def at_least(self, values: Floats) -> Counts:
        return np.asarray((self.upper.shape[1] - self._places(values, after_equals=False)).sum(axis=2))

    def between(self, low: Floats, high: Floats) -> Partners:
        first = self._places(low, after_equals=True)
        last = np.maximum(self._places(high, after_equals=True), first)
        return Partners(np.asarray(first.sum(axis=2)), first, last)

    def _places(self, values: Floats, *, after_equals: bool) -> Counts:
        wanted = self.lower[:, None, :] + values[:, :, None]
        return places_in(self.upper, wanted, after_equals=after_equals)

    def written(self, partners: Partners) -> Floats:
        mine, other = partners.values(self.lower, self.upper)
        return np.asarray(other - mine)

    def row(self, place: int) -> _Differences:
        return _Differences(self.upper[place : place + 1], self.lower[place : place + 1])
