"""How something grows with a size: the exponent of a power, by what was read at some sizes in each block."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.stats.stopped import student_quantile

__all__ = ["Growth", "block_exponents", "count_exponent", "exponent_of"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Growth:
    """An exponent with its interval; infinite where fewer than two blocks bound nothing."""

    exponent: float
    low: float
    high: float


def block_exponents(sizes: Floats, values: Floats) -> Floats:
    """Return the slope of log values over log sizes in each block, shape (..., n), by least squares.

    Of a power of the size that is its exponent; of anything else the slope of its own values over the same sizes.

    Parameters
    ----------
    sizes : array, shape (m,)
        Above zero, at least two of them different.
    values : array, shape (..., m, n)
        At each size in each of n blocks; where one is not above zero the slope is NaN.
    """
    x = np.log(sizes) - np.log(sizes).mean()
    with np.errstate(divide="ignore", invalid="ignore"):
        y = np.log(np.where(values > 0, values, np.nan))
    found: Floats = np.einsum("m,...mn->...n", x, y) / float(x @ x)
    return found


def exponent_of(slopes: Floats, level: float) -> Growth:
    """Return the mean slope of n blocks with its interval by Student's t (1908), which errs with a chance of `level`.

    A block is the unit: what slows all sizes of one alike is no growth.
    """
    mean = float(slopes.mean())
    if slopes.size < 2:
        return Growth(mean, -math.inf, math.inf)
    reach = student_quantile(level, slopes.size - 1) * float(slopes.std(ddof=1)) / math.sqrt(slopes.size)
    return Growth(mean, mean - reach, mean + reach)


def count_exponent(sizes: Floats, counts: Floats) -> Growth:
    """Return the exponent of exact counts: least squares over all sizes, between the slopes of neighbouring sizes.

    Parameters
    ----------
    sizes, counts : array, shape (m,)
        Sizes in rising order; counts above zero.
    """
    slopes = np.diff(np.log(counts)) / np.diff(np.log(sizes))
    mean = float(block_exponents(sizes, counts[:, None])[0])
    return Growth(mean, float(slopes.min()), float(slopes.max()))
