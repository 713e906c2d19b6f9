"""Sign flips: exact tests and intervals for paired differences that are symmetric about their centre, alone or many.

Under no change each difference is as likely with the other sign, whatever its spread (Fisher 1935).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["MOST_EXACT", "Flipped", "flip_p", "flipped", "subset_interval"]

MOST_EXACT = 12  # blocks up to which every flip is taken; beyond, so many are drawn as these have
_DRAWN_SEED = 20261126
_SAME = 1e-9
_MOST_ROUNDS = 8
Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]


@dataclass(frozen=True)
class Flipped:
    """A family of k mean differences, tested together.

    Attributes
    ----------
    mean, low, high : array, shape (k,)
        With simultaneous intervals; infinite where so few blocks cannot bound them.
    p : array, shape (k,)
        Adjusted for the family.
    shown : array of bool, shape (k,)
        Whether a change is shown, which is where the interval does not hold 0.
    """

    mean: Floats
    low: Floats
    high: Floats
    p: Floats
    shown: Flags


def flipped(differences: Floats, risk: float) -> Flipped:
    """Test many mean differences at once (Westfall and Young 1993, maximum of studentised means over sign flips).

    The chance of any false one is at most `risk` when differences of what did not change are symmetric, whatever
    else changed and however they hang together. Where a change is shown its own flips, which a large change makes
    wide, are replaced by those of its residuals: the maximum is then still over all that did not change.

    Parameters
    ----------
    differences : array, shape (k, n)
        Of k places in n blocks, n at least 1; finite.
    risk : float
        In (0, 1).
    """
    k, n = differences.shape
    mean = differences.mean(axis=1)
    if not k:
        return Flipped(mean, mean, mean, mean, np.zeros(0, dtype=bool))
    signs = _signs(n)
    own = _studentised(differences, signs)
    seen = own[:, 0]  # the first flip is none
    shown = np.zeros(k, dtype=bool)
    for _ in range(_MOST_ROUNDS):
        flips = own
        if shown.any():
            flips = own.copy()
            flips[shown] = _studentised(differences[shown] - mean[shown, None], signs)
        most = flips.max(axis=0)
        critical = _critical(most, risk)
        now = seen > critical + _SAME
        if (now == shown).all():
            break
        shown = now
    spread = np.sqrt(np.maximum(0.0, (differences**2).mean(axis=1) - mean**2) / max(1, n - 1))
    reach = math.inf if critical >= 1 - _SAME else critical * math.sqrt(max(1, n - 1)) / math.sqrt(1 - critical**2)
    with np.errstate(invalid="ignore"):
        half = np.where(spread > 0, spread * reach, math.inf if math.isinf(reach) else 0.0)
    p = np.array([float((np.maximum(most, own[j]) >= seen[j] - _SAME).mean()) for j in range(k)])
    return Flipped(mean, mean - half, mean + half, p, shown)


def flip_p(differences: Floats) -> float:
    """Return the two-sided p of one mean difference; differences of shape (n,)."""
    own = _studentised(differences[None, :], _signs(differences.size))[0]
    return float((own >= own[0] - _SAME).mean())


def subset_interval(differences: Floats, risk: float) -> tuple[float, float]:
    """Return the interval for the centre of symmetric differences, by the means of their subsets (Hartigan 1969).

    The means of all subsets divide the line into parts that hold the centre with equal chances, so that it is exact
    whatever the spread of each difference. Infinite where so few cannot bound it.
    """
    n = differences.size
    if n <= MOST_EXACT:
        chosen = (np.arange(1, 2**n)[:, None] >> np.arange(n)) & 1
    else:
        rng = np.random.default_rng(_DRAWN_SEED)
        chosen = rng.integers(0, 2, (2**MOST_EXACT, n))
        chosen = chosen[chosen.any(axis=1)]
    means = np.sort(chosen @ differences / chosen.sum(axis=1))
    rank = math.floor(risk * (means.size + 1) / 2 + _SAME)
    if rank < 1:
        return -math.inf, math.inf
    return float(means[rank - 1]), float(means[-rank])


def _signs(n: int) -> Floats:
    """Return flips, shape (n, f), the first of which is none; of two that are each other's opposite one is left out."""
    if n <= MOST_EXACT:
        flips = (np.arange(2 ** (n - 1)) >> np.arange(n)[:, None]) & 1
        return np.asarray(1.0 - 2.0 * flips, dtype=np.float64)
    drawn = np.random.default_rng(_DRAWN_SEED).choice([-1.0, 1.0], (n, 2 ** (MOST_EXACT - 1)))
    drawn[:, 0] = 1.0
    return np.asarray(drawn)


def _studentised(differences: Floats, signs: Floats) -> Floats:
    """Return |mean| over root mean square for each flip, shape (k, f): of one order with Student's t, from 0 to 1."""
    n = differences.shape[1]
    size = np.sqrt((differences**2).mean(axis=1))[:, None]
    with np.errstate(invalid="ignore", divide="ignore"):
        found = np.abs(differences @ signs) / n / size
    return np.asarray(np.where(size > 0, found, 0.0), dtype=np.float64)


def _critical(most: Floats, risk: float) -> float:
    """Return what a value must exceed so that at most that share of flips reaches it; 1 where none can."""
    allowed = math.floor(risk * most.size + _SAME)
    if allowed < 1:
        return 1.0
    return float(np.sort(most)[most.size - allowed - 1]) if allowed < most.size else 0.0
