"""Levels of repetition: how much samples, trials, blocks and records of one code differ, and which repetition pays.

That each level of repetition has a variance of its own, and that the costliest level decides how often to repeat the
others, is worked out for such experiments by Kalibera and Jones (2013).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.stats.sample import robust_spread

__all__ = ["Levels", "between_groups", "block_and_trial_spread", "levels", "samples_that_pay"]

Floats = NDArray[np.float64]
_FEWEST = 3


@dataclass(frozen=True)
class Levels:
    """Standard deviations on the log scale: of samples within a trial, and of trials of one block from each other."""

    within: float
    between: float


def levels(first: Floats, second: Floats) -> Levels:
    """Return the spread on both levels, from blocks in which the same code ran twice.

    Parameters
    ----------
    first, second : ndarray, shape (blocks, k)
        Logs of the warm samples of both trials of each block; at least 2 blocks and 2 samples.

    Notes
    -----
    The variance of a block's difference of means is twice that of a trial: between^2 + within^2 / k (Cochran 1977,
    section 10.3). What both trials of a block share, drift above all, does not come in.
    """
    k = first.shape[1]
    within = float(np.mean([side.var(axis=1, ddof=1) for side in (first, second)]))
    of_trial = float(np.var(second.mean(axis=1) - first.mean(axis=1), ddof=1)) / 2
    return Levels(math.sqrt(within), math.sqrt(max(0.0, of_trial - within / k)))


def samples_that_pay(found: Levels, trial_s: float, sample_s: float, now: int) -> tuple[int, float]:
    """Return how many samples a trial should take, and how much of the time that saves at one precision.

    Parameters
    ----------
    trial_s, sample_s : float
        What a trial takes without its samples, and what a sample takes.
    now : int
        Samples that a trial takes now.

    Returns
    -------
    (samples, saving) : int, float
        The samples that give the smallest variance for a given time, sqrt(trial_s / sample_s) within / between
        (Cochran 1977, equation 10.26), and the share of the time that is saved against now.
    """

    def cost(samples: float) -> float:
        return (found.between**2 + found.within**2 / samples) * (trial_s + samples * sample_s)

    if found.between == 0 or sample_s <= 0:
        return now, 0.0
    best = max(1.0, math.sqrt(trial_s / sample_s) * found.within / found.between)
    samples = max(1, round(best))
    return samples, max(0.0, 1 - cost(samples) / cost(now))


def block_and_trial_spread(first: Floats, second: Floats) -> tuple[float, float]:
    """Return how much blocks differ from each other, and trials of one block.

    Parameters
    ----------
    first, second : ndarray, shape (n,)
        Logs of the readings of two arms, block by block; a change between the arms takes no part.

    Returns
    -------
    (blocks, trials) : float
        Standard deviations, robust (1.4826 median absolute deviations, Hampel 1974), on the log scale. A difference
        within a block has twice the variance of a trial; a block's mean has that of blocks and half that of a trial
        (Cochran 1977, section 10.3). NaN for fewer than 3 blocks.
    """
    if first.size < _FEWEST:
        return math.nan, math.nan
    trials = robust_spread(second - first) / math.sqrt(2)
    blocks = robust_spread((first + second) / 2)
    return math.sqrt(max(0.0, blocks**2 - trials**2 / 2)), trials


def between_groups(means: Floats, errors: Floats) -> float:
    """Return how much groups differ beyond what the errors of their means explain; NaN for fewer than 2 groups.

    Parameters
    ----------
    means, errors : ndarray, shape (g,)
        Means, and their standard errors.
    """
    if means.size < 2:
        return math.nan
    return math.sqrt(max(0.0, float(np.var(means, ddof=1)) - float(np.mean(errors**2))))
