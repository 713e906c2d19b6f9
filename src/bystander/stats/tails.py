"""The whole distribution: how each part of it moved between two samples, by order statistics; and two modes."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from bystander.stats.sample import quantiles, robust_spread

__all__ = ["SHARES", "needed_trials", "order_cut", "quantile_ratios", "two_speeds"]

Floats = NDArray[np.float64]
SHARES = (0.1, 0.25, 0.5, 0.75, 0.9, 0.95, 0.99)
_FEWEST, _FEWEST_IN_A_MODE, _SHARE_OF_A_MODE, _GAP = 16, 4, 0.15, 2.0


def needed_trials(share: float, error: float) -> int:
    """Return how many trials each arm needs, so that the ratio of a quantile has an interval at level 1 - error.

    Each arm's interval may miss with error / 4 at either end, since both arms' intervals must hold at once.
    """
    return math.ceil(math.log(error / 4) / math.log(max(share, 1 - share)))


@lru_cache(maxsize=4096)
def order_cut(n: int, share: float, tail: float) -> tuple[int, int]:
    """Return the places of the order statistics that bound a quantile (Thompson 1936).

    Returns
    -------
    (low, high) : pair of int
        From 0; each misses the quantile with probability `tail` at most. -1 and n where there is none.
    """
    mass = _binomial(n, share)
    at_most = np.cumsum(mass)
    at_least = np.cumsum(mass[::-1])[::-1]
    # The k-th value lies above the quantile when fewer than k values lie below it.
    low = int(np.searchsorted(at_most[:-1], tail, side="right")) - 1
    high = n - int(np.searchsorted(at_least[:0:-1], tail, side="right"))
    return low, high


def _binomial(n: int, share: float) -> Floats:
    """Return the probabilities of 0 .. n successes."""
    k = np.arange(n + 1)
    logs = np.concatenate([[0.0], np.cumsum(np.log(np.arange(1, n + 1)))])
    return np.asarray(np.exp(logs[n] - logs[k] - logs[n - k] + k * math.log(share) + (n - k) * math.log1p(-share)))


def quantile_ratios(reference: Floats, candidate: Floats, share: float, error: float) -> tuple[Floats, Floats, Floats]:
    """Return the ratio of a quantile, candidate over reference, with its interval at level 1 - error, for R rows.

    Parameters
    ----------
    reference, candidate : ndarray, shapes (R, n) and (R, k)
        Sorted along the rows, all above zero.

    Returns
    -------
    (ratio, low, high) : ndarrays, shape (R,)
        The estimate by linear interpolation (Hyndman and Fan 1996, type 7); 0 and infinity where an end is unbounded.
    """
    rows = reference.shape[0]
    lows, highs, middles = [], [], []
    for ordered in (reference, candidate):
        low, high = order_cut(ordered.shape[1], share, error / 4)
        lows.append(ordered[:, low] if low >= 0 else np.zeros(rows))
        highs.append(ordered[:, high] if high < ordered.shape[1] else np.full(rows, math.inf))
        middles.append(quantiles(ordered, share))
    with np.errstate(divide="ignore"):
        return middles[1] / middles[0], lows[1] / highs[0], highs[1] / lows[0]


def two_speeds(ordered: Floats) -> list[tuple[float, float, float] | None]:
    """Return both speeds of each sample that has two, with the share of the slower one; None where it has not.

    Parameters
    ----------
    ordered : ndarray, shape (R, n)
        Sorted along the rows, all above zero.

    Notes
    -----
    It has 16 values at least. Its largest gap, on the log scale, is more than twice the robust spreads of both sides
    together, and on either side of it are 4 values and 15 % of them at least.
    """
    rows, n = ordered.shape
    found: list[tuple[float, float, float] | None] = [None] * rows
    if n < _FEWEST:
        return found
    least = max(_FEWEST_IN_A_MODE, math.ceil(_SHARE_OF_A_MODE * n))
    logs = np.log(ordered)
    gaps = np.diff(logs, axis=1)
    places = np.argmax(gaps, axis=1) + 1
    for i in np.flatnonzero((places >= least) & (places <= n - least)).tolist():
        cut = int(places[i])
        sides = logs[i, :cut], logs[i, cut:]
        if gaps[i, cut - 1] > _GAP * sum(map(robust_spread, sides)):
            found[i] = float(np.median(ordered[i, :cut])), float(np.median(ordered[i, cut:])), (n - cut) / n
    return found
