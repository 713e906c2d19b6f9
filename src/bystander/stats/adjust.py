"""Many comparisons at once: the share of false rows, and no false row at all."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["benjamini_hochberg", "holm", "rejections"]

Floats = NDArray[np.float64]


def _family(p: Floats, size: int | None) -> tuple[Floats, int]:
    p = np.asarray(p, dtype=np.float64)
    if p.ndim != 1 or np.isnan(p).any() or (p < 0).any() or (p > 1).any():
        raise ValueError("p values must be one array of numbers from 0 to 1")
    size = p.size if size is None else size
    if size < p.size:
        raise ValueError(f"a family of {size} has no {p.size} members")
    return p, size


def benjamini_hochberg(p: Floats, size: int | None = None) -> Floats:
    """Return adjusted p values that hold the expected share of false rows (Benjamini and Hochberg 1995).

    Parameters
    ----------
    p : ndarray, shape (k,)
    size : int, optional
        Comparisons in the family, k by default; those that are not given count as p = 1.
    """
    p, size = _family(p, size)
    order = np.argsort(p, kind="stable")
    scaled = p[order] * size / np.arange(1, p.size + 1)
    adjusted = np.empty_like(p)
    adjusted[order] = np.minimum(np.minimum.accumulate(scaled[::-1])[::-1], 1.0)
    return adjusted


def holm(p: Floats, size: int | None = None) -> Floats:
    """Return adjusted p values that hold the chance of any false row (Holm 1979); arguments as above."""
    p, size = _family(p, size)
    order = np.argsort(p, kind="stable")
    scaled = p[order] * (size - np.arange(p.size))
    adjusted = np.empty_like(p)
    adjusted[order] = np.minimum(np.maximum.accumulate(scaled), 1.0)
    return adjusted


def rejections(adjusted: Floats, risk: float) -> int:
    """Count adjusted p values at or below the risk."""
    return int(np.count_nonzero(adjusted <= risk))
