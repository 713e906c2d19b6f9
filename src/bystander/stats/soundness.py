"""Whether block differences behave as the tests assume: one statistic for each thing that could have fooled them.

All but the outliers are rank correlations of the differences with something that must not matter; under exchangeable
blocks r sqrt(n - 1) has variance 1 exactly, and is close to normal (Hotelling and Pabst 1936). What is compared are
ranks, so that no noise model is assumed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.stats.null import rank_sum_null

__all__ = ["FEWEST_BLOCKS", "FIRST_BLOCKS", "Soundness", "outlying", "serial_z", "soundness"]

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
FEWEST_BLOCKS = 12
FIRST_BLOCKS = 5
_LEVEL = 0.001
_LEVEL_Z, _ONE_SIDED_Z = 3.2905, 3.0902  # 0.001, two-sided and one-sided
_SIGNS_Z = 3.7  # taking off the median, which is estimated, adds some: 0.001 again under skewed noise
_OUTLYING = 8.0  # robust standard deviations
_DISTINCT = 1 / 3


@dataclass(frozen=True)
class Soundness:
    """What is found, row by row; arrays of shape (R,), `outlying` of shape (R, n).

    Attributes
    ----------
    drifts : ndarray of bool
        The difference changes with time (Spearman 1904).
    starts_apart : ndarray of bool
        The first `FIRST_BLOCKS` blocks differ from the others (Wilcoxon 1945).
    order_matters : ndarray of bool
        Blocks in which the candidate ran first differ from those in which it ran second.
    depends : ndarray of bool
        A block resembles the one before it (Wald and Wolfowitz 1943, on ranks).
    noisier : ndarray of int
        1 where the candidate's readings scatter more than the reference's, -1 where less (Pitman 1939, on ranks).
    few_values : ndarray of bool
        Fewer than a third of the readings are distinct.
    outlying : ndarray of bool
        Blocks that lie more than 8 robust standard deviations from the median (Hampel 1974).
    """

    drifts: Flags
    starts_apart: Flags
    order_matters: Flags
    depends: Flags
    noisier: NDArray[np.int64]
    few_values: Flags
    outlying: Flags


def soundness(reference: Floats, candidate: Floats, candidate_first: Flags) -> Soundness:
    """Return what speaks against the assumptions, for R rows of n blocks in the order in which they ran.

    Parameters
    ----------
    reference, candidate : ndarray, shape (R, n)
        Readings on the scale that is tested, all finite; n at least `FEWEST_BLOCKS`.
    candidate_first : ndarray of bool, shape (R, n)

    Notes
    -----
    Under exchangeable blocks each of the first five is found by luck in at most one row in a thousand: by
    construction for the first four, by simulation under six noise models for the fifth.
    """
    difference = candidate - reference
    ranks = _ranks(difference)
    rows, n = ranks.shape
    time = np.broadcast_to(np.arange(n, dtype=np.float64), (rows, n))
    level = _ranks(candidate + reference)
    centre = np.median(difference, axis=1, keepdims=True)
    away = np.abs(difference - centre)
    noisier = _signs_z(level, np.sign(difference - centre) * (_ranks(away) + 1))
    spread = 1.4826 * np.median(away, axis=1, keepdims=True)
    both = np.sort(np.concatenate([reference, candidate], axis=1), axis=1)
    distinct = 1 + np.count_nonzero(np.diff(both, axis=1), axis=1)
    return Soundness(
        drifts=np.abs(_correlation_z(time, ranks)) >= _LEVEL_Z,
        starts_apart=_first_apart(ranks),
        order_matters=np.abs(_correlation_z(candidate_first.astype(np.float64), ranks)) >= _LEVEL_Z,
        depends=_serial_z(ranks) >= _ONE_SIDED_Z,
        noisier=np.where(np.abs(noisier) >= _SIGNS_Z, np.sign(noisier), 0).astype(np.int64),
        few_values=distinct < _DISTINCT * 2 * n,
        outlying=_far(away, spread),
    )


def outlying(difference: Floats) -> Flags:
    """Return which differences, shape (R, n), lie more than 8 robust standard deviations from their row's median.

    None do in rows of fewer than `FEWEST_BLOCKS` (Hampel 1974).
    """
    away = np.abs(difference - np.median(difference, axis=1, keepdims=True))
    if difference.shape[1] < FEWEST_BLOCKS:
        return np.zeros(difference.shape, dtype=bool)
    return _far(away, 1.4826 * np.median(away, axis=1, keepdims=True))


def _far(away: Floats, spread: Floats) -> Flags:
    far: Flags = (away > _OUTLYING * spread) & (spread > 0)
    return far


def serial_z(values: Floats) -> float:
    """Return by how many standard errors each reading resembles the one before it, by ranks (Wald and Wolfowitz 1943).

    Parameters
    ----------
    values : ndarray, shape (n,)
        In the order of time, n at least 4; infinite ones are ranked like others.
    """
    return float(_serial_z(_ranks(values[None, :]))[0])


def _first_apart(ranks: Floats) -> Flags:
    """Whether the first blocks' ranks are too low or too high together, by the exact distribution of their sum."""
    n = ranks.shape[1]
    null = rank_sum_null(FIRST_BLOCKS, n - FIRST_BLOCKS)
    count = ranks[:, :FIRST_BLOCKS].sum(axis=1) - FIRST_BLOCKS * (FIRST_BLOCKS - 1) / 2
    edge = null.largest(_LEVEL / 2)
    apart: Flags = (count <= edge) | (null.total - count <= edge)
    return apart


def _ranks(values: Floats) -> Floats:
    """Return ranks from 0 within each row; ties share their mean rank."""
    order = np.argsort(values, axis=1)  # equal ones in any order, as they share a rank
    ordered = np.take_along_axis(values, order, axis=1)
    new = np.concatenate([np.ones((values.shape[0], 1), dtype=bool), ordered[:, 1:] != ordered[:, :-1]], axis=1)
    rows, n = values.shape
    ranks = np.empty((rows, n))
    if new.all():
        np.put_along_axis(ranks, order, np.broadcast_to(np.arange(n, dtype=np.float64), (rows, n)), axis=1)
        return ranks
    group = np.cumsum(new, axis=1) - 1 + np.arange(rows)[:, None] * n
    flat = group.ravel()
    place = np.broadcast_to(np.arange(n, dtype=np.float64), (rows, n)).ravel()
    mean = np.bincount(flat, place, rows * n) / np.maximum(np.bincount(flat, minlength=rows * n), 1)
    np.put_along_axis(ranks, order, mean[flat].reshape(rows, n), axis=1)
    return ranks


def _correlation_z(first: Floats, second: Floats) -> Floats:
    """Return r sqrt(n - 1) of each row, 0 where one side does not vary."""
    a = first - first.mean(axis=1, keepdims=True)
    b = second - second.mean(axis=1, keepdims=True)
    scale = np.sqrt((a * a).sum(axis=1) * (b * b).sum(axis=1) / (first.shape[1] - 1))
    z: Floats = np.where(scale > 0, (a * b).sum(axis=1) / np.where(scale > 0, scale, 1.0), 0.0)
    return z


def _signs_z(first: Floats, signed: Floats) -> Floats:
    """Return the sum of products of each row, standardised as if the signs of the second side were drawn by chance.

    Sum and difference of two alike readings are uncorrelated, but far ones come together. A swap of the arms flips the
    difference and leaves all else as it was, so it is the signs that are random.
    """
    products = (first - first.mean(axis=1, keepdims=True)) * signed
    scale = np.sqrt((products * products).sum(axis=1))
    z: Floats = np.where(scale > 0, products.sum(axis=1) / np.where(scale > 0, scale, 1.0), 0.0)
    return z


def _serial_z(ranks: Floats) -> Floats:
    """Return the standardised sum of products of neighbours, wrapped around (Wald and Wolfowitz 1943)."""
    n = ranks.shape[1]
    x = ranks - ranks.mean(axis=1, keepdims=True)
    square = x * x
    s2, s4 = square.sum(axis=1), (square * square).sum(axis=1)
    sum_of_products = (x * np.roll(x, 1, axis=1)).sum(axis=1)
    mean = -s2 / (n - 1)
    # Their equation with the odd sums left out, which vanish for centred ranks.
    variance = (s2**2 - s4) / (n - 1) + (s2**2 - 2 * s4) / ((n - 1) * (n - 2)) - mean**2
    variance = np.where(variance > 0, variance, 1.0)
    z: Floats = np.where(s2 > 0, (sum_of_products - mean) / np.sqrt(variance), 0.0)
    return z
