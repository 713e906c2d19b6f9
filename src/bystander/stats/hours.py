"""Numbers of two records of different hours: by a reference in both, or by how far records of one code differ.

Trials of one code minutes apart differ more than their scatter within a record says: the rank-sum test on absolute
times calls an unchanged program changed in three of four cases. Differences to a reference in the same blocks do not.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import examine, interval
from bystander.stats.rank_sum import pairwise_contrasts
from bystander.stats.stopped import student_quantile

__all__ = ["FEWEST_PAIRS", "HoursApart", "by_pairs", "by_reference"]

Floats = NDArray[np.float64]
FEWEST_PAIRS = 5
_RANKED = 19  # from so many pairs on their own ranks bound what one code shows
_LEVEL = 0.03  # both sides: the spread of few pairs is badly known, and t at 5 % held in less than 95 %


@dataclass(frozen=True)
class HoursApart:
    """How a program changed between two records, on the scale of the values; with its interval, and p where tested.

    Attributes
    ----------
    pairs : int
        Of records of one code that the interval rests on; 0 where a reference is in both.
    """

    estimate: float
    low: float
    high: float
    p: float
    pairs: int = 0

    @property
    def shown(self) -> bool:
        """Whether a change is shown."""
        return self.low > 0 or self.high < 0


def by_reference(then: Floats, now: Floats, error: float = 0.05) -> HoursApart:
    """Return how block differences to the same reference moved (Mann and Whitney 1947; Hodges and Lehmann 1963).

    Parameters
    ----------
    then, now : ndarray, shapes (n,) and (k,)
        Block differences of the candidate to the reference, in each record.
    error : float
        One minus the level of the interval.
    """
    contrasts = pairwise_contrasts((then, then), (now, now))
    seen = examine(contrasts, np.zeros(1))
    low, high = interval(contrasts, np.array([error]))
    return HoursApart(float(seen.estimate[0]), float(low[0]), float(high[0]), float(seen.p[0]))


def by_pairs(change: float, pairs: Floats) -> HoursApart:
    """Return a change of medians with the interval that records of one code allow.

    Parameters
    ----------
    change : float
        Between the two records, on the log scale.
    pairs : ndarray, shape (K,)
        The same of pairs of records of one code, of the same machine, workload and similar time apart.

    Raises
    ------
    ValueError
        For fewer than `FEWEST_PAIRS`.
    """
    count = pairs.size
    if count < FEWEST_PAIRS:
        raise ValueError(f"{count} pairs of records say too little")
    if count >= _RANKED:
        place = min(count, math.ceil(0.95 * (count + 1)))
        half = float(np.sort(np.abs(pairs))[place - 1])
    else:
        half = student_quantile(_LEVEL, count) * math.sqrt(float(np.mean(pairs**2)))
    return HoursApart(change, change - half, change + half, math.nan, count)
