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

__all__ = [
    "Contrasts",
    "Examination",
    "SortedContrasts",
    "estimates",
    "examine",
    "interval",
    "intervals",
    "p_and_e",
]

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

    def count_at_most(self, limits: Floats) -> Counts:
        """Count low contrasts <= each limit; shape (R, K), as that of the limits."""

    def count_at_least(self, limits: Floats) -> Counts:
        """Count high contrasts >= each limit; shape (R, K), as that of the limits."""

    def low(self, ranks: Counts) -> Floats:
        """Return the low contrasts of those ranks (from 1); shape (R, K), as that of the ranks."""

    def high(self, ranks: Counts) -> Floats:
        """Return the high contrasts of those ranks (from 1); shape (R, K), as that of the ranks."""


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

    def count_at_most(self, limits: Floats) -> Counts:
        """Count low contrasts <= each limit, shape (R, K)."""
        return np.stack([np.count_nonzero(self.lows <= limit[:, None], axis=1) for limit in limits.T], axis=1)

    def count_at_least(self, limits: Floats) -> Counts:
        """Count high contrasts >= each limit, shape (R, K)."""
        return np.stack([np.count_nonzero(self.highs >= limit[:, None], axis=1) for limit in limits.T], axis=1)

    def low(self, ranks: Counts) -> Floats:
        """Return the low contrasts of those ranks (from 1), shape (R, K)."""
        return np.asarray(np.take_along_axis(self.lows, ranks - 1, axis=1))

    def high(self, ranks: Counts) -> Floats:
        """Return the high contrasts of those ranks (from 1), shape (R, K)."""
        return np.asarray(np.take_along_axis(self.highs, ranks - 1, axis=1))


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
    p, e, leans = _tests(contrasts, limit)
    return Examination(estimates(contrasts), leans, p, e)


def p_and_e(contrasts: Contrasts, limit: Floats) -> tuple[Floats, Floats]:
    """Return p and e of each row as `examine` does, and nothing else."""
    p, e, _ = _tests(contrasts, limit)
    return p, e


def _tests(contrasts: Contrasts, limit: Floats) -> tuple[Floats, Floats, Counts]:
    """Return p, e, and to which side each row leans."""
    # At a margin of 0 a row of zeros lies within it: count what lies beyond only.
    reach, zero = np.where(limit > 0, limit, np.nextafter(0.0, 1.0)), np.zeros(contrasts.rows)
    below = contrasts.count_at_most(np.stack([zero, -reach], axis=1))
    above = contrasts.count_at_least(np.stack([zero, reach], axis=1))
    tails = contrasts.null.at_most(np.stack([np.minimum(below[:, 0], above[:, 0]), np.maximum(below, above)[:, 1]]))
    return np.minimum(1.0, 2.0 * tails[0]), tails[1], np.sign(above[:, 0] - below[:, 0])


def estimates(contrasts: Contrasts) -> Floats:
    """Return the median of the contrasts of each row; see `Examination`."""
    total = contrasts.null.total
    ranks = np.tile(np.array([(total + 1) // 2, total // 2 + 1]), (contrasts.rows, 1))
    with np.errstate(invalid="ignore"):
        lows = contrasts.low(ranks)
        middle = (lows[:, 0] + lows[:, 1]) / 2
        if not contrasts.exact:
            highs = contrasts.high(ranks)
            upper = (highs[:, 0] + highs[:, 1]) / 2
            middle = np.where(middle == upper, middle, (middle + upper) / 2)
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
    low, high = intervals(contrasts, error[:, None])
    return low[:, 0], high[:, 0]


def intervals(contrasts: Contrasts, errors: Floats) -> tuple[Floats, Floats]:
    """Return the intervals of each row at several levels, as `interval` does; all arrays have shape (R, L)."""
    total = contrasts.null.total
    cut = np.minimum(contrasts.null.largest_of(errors / 2), (total - 1) // 2)
    lower, upper = np.maximum(cut, 0) + 1, total - np.maximum(cut, 0)
    if contrasts.exact:
        low, high = np.split(contrasts.low(np.concatenate([lower, upper], axis=1)), 2, axis=1)
    else:
        low, high = contrasts.low(lower), contrasts.high(upper)
    return np.where(cut < 0, -np.inf, low), np.where(cut < 0, np.inf, high)
