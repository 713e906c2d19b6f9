"""One sample by itself: quantiles, spread, and an interval for the median."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["SampleSummary", "median_interval", "summarise"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SampleSummary:
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


def median_interval(ordered: Floats, confidence: float) -> tuple[float, float, float]:
    """Return low, high and reached level of the order-statistic interval of the median (Thompson 1936).

    Parameters
    ----------
    ordered : ndarray, shape (n,)
        Sorted.
    confidence : float
        In (0, 1).
    """
    n = ordered.size
    tail, cut, ways = 0.0, -1, 1.0
    log_half = n * math.log(0.5)
    for k in range(n // 2):
        ways = math.exp(math.lgamma(n + 1) - math.lgamma(k + 1) - math.lgamma(n - k + 1) + log_half)
        if 2 * (tail + ways) > 1 - confidence:
            break
        tail, cut = tail + ways, k
    if cut < 0:
        return -math.inf, math.inf, 1.0
    return float(ordered[cut]), float(ordered[n - 1 - cut]), 1 - 2 * tail


def summarise(values: Floats, confidence: float = 0.95) -> SampleSummary:
    """Describe a sample of finite readings, shape (n,), n at least 1; raise ValueError otherwise."""
    ordered = np.sort(np.asarray(values, dtype=np.float64))
    if not ordered.size or not np.isfinite(ordered).all():
        raise ValueError("a sample needs one reading at least, all finite")
    least, lower, median, upper, most = (float(q) for q in np.quantile(ordered, [0, 0.25, 0.5, 0.75, 1]))
    low, high, reached = median_interval(ordered, confidence)
    spread = 1.4826 * float(np.median(np.abs(ordered - median)))
    return SampleSummary(ordered.size, least, lower, median, upper, most, low, high, reached, spread)
