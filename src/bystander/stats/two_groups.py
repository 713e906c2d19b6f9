"""Two groups of trials held against each other, many values of each trial at once."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from bystander.stats.sign_flips import Flipped

__all__ = ["apart", "regrouped"]

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]
_DRAWS = 4095  # besides the grouping that was seen
_SAME = 1e-12
_SPREADS, _NORMAL, _LEAST = 3.0, 1.4826, 0.05


def apart(values: Floats) -> tuple[float, Flags]:
    """Return the end beyond which values lie apart at the upper side, and which do.

    Three robust spreads above the median (1.4826 times the median absolute deviation; Hampel 1974), and a twentieth
    of the median at least.

    Parameters
    ----------
    values : array, shape (n,)
        Above zero, n at least 1.
    """
    middle = float(np.median(values))
    spread = _NORMAL * float(np.median(np.abs(values - middle)))
    end = middle + max(_SPREADS * spread, _LEAST * middle)
    return end, values > end


def regrouped(values: Floats, group: Flags, risk: float, seed: int) -> Flipped:
    """Test the differences of the means of two groups of trials, of many values at once.

    The maximum of studentised differences over regroupings of whole trials, drawn by chance (Westfall and Young 1993;
    Welch's statistic): the chance of any false one is at most `risk` where the values of a trial hang together in any
    way. Intervals are of Welch's kind, with that maximum's quantile.

    Parameters
    ----------
    values : array, shape (k, n)
        Of k places in n trials.
    group : array of bool, shape (n,)
        The trials that are held against the others; two of each kind at least, or nothing is bounded.
    risk : float
        In (0, 1).
    seed : int
        Of the regroupings that are drawn.
    """
    k = values.shape[0]
    mean, spread = (each[:, 0] for each in _differences(values, group[None, :]))
    if not k or min(int(group.sum()), int((~group).sum())) < 2:
        endless = np.full(k, math.inf)
        return Flipped(mean, -endless, endless, np.ones(k), np.zeros(k, dtype=bool))
    draw = np.random.default_rng(seed)
    groups = draw.permuted(np.tile(group, (_DRAWS + 1, 1)), axis=1)
    groups[0] = group
    most = _over(*_differences(values, groups)).max(axis=0)
    p = (most[None, :] >= _over(mean, spread)[:, None] - _SAME).mean(axis=1)
    critical = float(np.quantile(most, 1 - risk, method="higher"))
    half = np.where(spread > 0, critical * spread, 0.0)
    return Flipped(mean, mean - half, mean + half, p, p <= risk)


def _differences(values: Floats, groups: Flags) -> tuple[Floats, Floats]:
    """Return differences of means and their standard errors, shape (k, g), for g groupings of shape (g, n)."""
    centred = values - values.mean(axis=1, keepdims=True)
    inside = groups.T.astype(np.float64)
    n, m = inside.sum(axis=0), (1 - inside).sum(axis=0)
    sums, squares = centred @ inside, (centred**2) @ inside
    others, other_squares = centred.sum(axis=1)[:, None] - sums, (centred**2).sum(axis=1)[:, None] - squares
    means = sums / np.maximum(n, 1), others / np.maximum(m, 1)
    errors = [
        np.maximum(0.0, of_squares - count * mean**2) / np.maximum(1, count - 1) / np.maximum(1, count)
        for of_squares, count, mean in ((squares, n, means[0]), (other_squares, m, means[1]))
    ]
    return means[0] - means[1], np.sqrt(errors[0] + errors[1])


def _over(mean: Floats, spread: Floats) -> Floats:
    with np.errstate(invalid="ignore", divide="ignore"):
        found: Floats = np.where(spread > 0, np.abs(mean) / spread, 0.0)
    return found
