"""Null distributions of the two rank statistics: exact where that is quick, normal beyond."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

__all__ = ["EXACT_BLOCKS", "EXACT_PAIRS", "Null", "rank_sum_null", "signed_rank_null"]

EXACT_BLOCKS = 1000  # beyond, the normal approximation is within 1e-4 of the exact level
EXACT_PAIRS = 10_000


@dataclass(frozen=True)
class Null:
    """Distribution of a rank statistic W when nothing differs, W = 0 .. total.

    Attributes
    ----------
    total : int
        The largest value of W: also the number of contrasts.
    table : ndarray of float, shape (total + 1,), or None
        P(W <= w); None where the normal approximation is used.
    mean, spread : float
        Mean and standard deviation of W.
    """

    total: int
    table: NDArray[np.float64] | None
    mean: float
    spread: float

    def at_most(self, w: NDArray[np.int64]) -> NDArray[np.float64]:
        """Return P(W <= w), any shape; 0 below 0, 1 from `total` on."""
        w = np.asarray(w, dtype=np.int64)
        if self.table is not None:
            inside = self.table[np.clip(w, 0, self.total)]
            return np.where(w < 0, 0.0, inside)
        normal = NormalDist(self.mean, self.spread)
        flat = [0.0 if k < 0 else 1.0 if k >= self.total else normal.cdf(k + 0.5) for k in w.ravel().tolist()]
        return np.array(flat, dtype=np.float64).reshape(w.shape)

    def largest(self, tail: float) -> int:
        """Return max{w : P(W <= w) <= tail}, or -1 where there is none; tail in [0, 0.5]."""
        return int(self.largest_of(np.array([tail]))[0])

    def largest_of(self, tails: NDArray[np.float64]) -> NDArray[np.int64]:
        """Return the same of several tails, any shape."""
        if self.table is not None:
            return np.asarray(self.table.searchsorted(tails, side="right") - 1)
        normal = NormalDist(self.mean, self.spread)
        flat = [-1 if tail <= 0 else math.floor(normal.inv_cdf(tail) - 0.5) for tail in tails.ravel().tolist()]
        return np.array(flat, dtype=np.int64).reshape(tails.shape)


@lru_cache(maxsize=256)
def signed_rank_null(n: int) -> Null:
    """Distribution of the signed-rank statistic of n differences without ties (Wilcoxon 1945).

    Each rank joins the sum with probability a half, so the probabilities are a product of n simple
    polynomials; all terms are positive and nothing cancels.
    """
    total = n * (n + 1) // 2
    table = None
    if n <= EXACT_BLOCKS:
        mass = np.zeros(total + 1)
        mass[0] = 1.0
        reach = 0
        for rank in range(1, n + 1):
            shifted = mass[: reach + 1] * 0.5
            mass[: reach + 1] *= 0.5
            mass[rank : reach + rank + 1] += shifted
            reach += rank
        table = np.minimum(np.cumsum(mass), 1.0)
    return Null(total, table, total / 2, math.sqrt(n * (n + 1) * (2 * n + 1) / 24))


@lru_cache(maxsize=256)
def rank_sum_null(n: int, k: int) -> Null:
    """Distribution of the two-sample count U for samples of n and k without ties (Mann and Whitney 1947).

    Exact by their recursion on the sample that holds the largest value,
    P(n, k, u) = n/(n+k) P(n-1, k, u-k) + k/(n+k) P(n, k-1, u).
    """
    total = n * k
    table = None
    if total <= EXACT_PAIRS:
        small, large = sorted((n, k))
        column = [np.ones(1)] * (large + 1)  # no value in the one sample: U is 0
        for i in range(1, small + 1):
            fresh = [np.ones(1)]
            for j in range(1, large + 1):
                mass = np.zeros(i * j + 1)
                mass[j:] += column[j] * (i / (i + j))
                mass[: i * (j - 1) + 1] += fresh[j - 1] * (j / (i + j))
                fresh.append(mass)
            column = fresh
        table = np.minimum(np.cumsum(column[large]), 1.0)
    return Null(total, table, total / 2, math.sqrt(n * k * (n + k + 1) / 12))
