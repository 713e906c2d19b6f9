"""One sample by itself: quantiles, spread, and an interval for the median."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

__all__ = [
    "SampleSummary",
    "median",
    "median_interval",
    "quantile",
    "quantiles",
    "robust_spread",
    "summarise",
    "summarise_rows",
]

Floats = NDArray[np.float64]


class SampleSummary(NamedTuple):
    """A sample in numbers, in the unit of the readings.

    Attributes
    ----------
    size : int
    least, first_quartile, median, third_quartile, most : float
        Quantiles by linear interpolation of order statistics (Hyndman and Fan 1996, type 7).
    median_low, median_high : float
        A closed interval for the median from order statistics; infinite where the sample is too small.
    confidence : float
        Its level as reached, at least the one asked for; 1 where it is infinite.
    spread : float
        Robust standard deviation: 1.4826 times the median absolute deviation (Hampel 1974).
    """

    size: int
    least: float
    first_quartile: float
    median: float
    third_quartile: float
    most: float
    median_low: float
    median_high: float
    confidence: float
    spread: float


@lru_cache(maxsize=1024)
def _median_cut(n: int, confidence: float) -> tuple[int, float]:
    """Return how many order statistics to leave off at either end, -1 for an unbounded interval, and the level."""
    tail, cut = 0.0, -1
    log_half = n * math.log(0.5)
    for k in range(n // 2):
        ways = math.exp(math.lgamma(n + 1) - math.lgamma(k + 1) - math.lgamma(n - k + 1) + log_half)
        if 2 * (tail + ways) > 1 - confidence:
            break
        tail, cut = tail + ways, k
    return cut, 1.0 if cut < 0 else 1 - 2 * tail


def median_interval(ordered: Floats, confidence: float) -> tuple[float, float, float]:
    """Return low, high and reached level of the order-statistic interval of the median (Thompson 1936).

    Parameters
    ----------
    ordered : ndarray, shape (n,)
        Sorted.
    confidence : float
        In (0, 1).
    """
    cut, level = _median_cut(ordered.size, confidence)
    if cut < 0:
        return -math.inf, math.inf, level
    return float(ordered[cut]), float(ordered[ordered.size - 1 - cut]), level


def median(values: Floats) -> float:
    """Return the median of values, shape (n,), NaN for none; for a few values much quicker than NumPy's own."""
    ordered = np.sort(values)
    n = ordered.size
    return float((ordered[(n - 1) // 2] + ordered[n // 2]) / 2) if n else math.nan


def robust_spread(values: Floats) -> float:
    """Return 1.4826 times the median absolute deviation of values, shape (n,), n at least 1 (Hampel 1974)."""
    return 1.4826 * median(np.abs(values - median(values)))


def quantile(values: Floats, share: float) -> float:
    """Return a quantile of values, shape (n,), n at least 1, linearly interpolated (Hyndman and Fan 1996, type 7)."""
    return float(quantiles(np.sort(values)[None, :], share)[0])


def quantiles(ordered: Floats, share: float) -> Floats:
    """Return one quantile of each sorted row, shape (R, n), by linear interpolation."""
    place = share * (ordered.shape[1] - 1)
    below = math.floor(place)
    above = min(below + 1, ordered.shape[1] - 1)
    low = ordered[:, below]
    return np.asarray(low + (place - below) * (ordered[:, above] - low))


def summarise(values: Floats, confidence: float = 0.95) -> SampleSummary:
    """Describe a sample of finite readings, shape (n,), n at least 1; raise ValueError otherwise."""
    return summarise_rows(np.asarray(values, dtype=np.float64)[None, :], confidence)[0]


def summarise_rows(values: Floats, confidence: float = 0.95) -> list[SampleSummary]:
    """Describe R samples of one size, shape (R, n), n at least 1, all finite; raise ValueError otherwise."""
    ordered = np.sort(values, axis=1)
    if not ordered.shape[1] or not np.isfinite(ordered).all():
        raise ValueError("a sample needs one reading at least, all finite")
    size = ordered.shape[1]
    cut, level = _median_cut(size, confidence)
    several = [quantiles(ordered, share) for share in (0, 0.25, 0.5, 0.75, 1)]
    deviations = np.sort(np.abs(ordered - several[2][:, None]), axis=1)
    spread = 1.4826 * quantiles(deviations, 0.5)
    unbounded = np.full(ordered.shape[0], math.inf)
    ends = (-unbounded, unbounded) if cut < 0 else (ordered[:, cut], ordered[:, size - 1 - cut])
    columns = [column.tolist() for column in (*several, *ends, spread)]
    return [
        SampleSummary(size, least, first, median, third, most, low, high, level, wide)
        for least, first, median, third, most, low, high, wide in zip(*columns, strict=True)
    ]
