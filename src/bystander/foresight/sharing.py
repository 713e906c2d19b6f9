"""How a time is shared out among workloads: by noise and cost, so that the worst precision is as good as it can be.

The half width of an interval falls with the square root of the blocks, so that it is the same everywhere where the
blocks of a workload are in proportion to the variance of its differences within blocks, whatever they cost (Neyman
1934, of strata that are all to be equally well known). What a few trial blocks say of a spread is drawn towards what
the others say, by as much as chance alone would scatter it (empirical Bayes; Efron and Morris 1975).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["Shares", "shared_blocks", "steadied"]

Floats = NDArray[np.float64]
_STEPS = 200
_FEW = 16  # workloads
_NOTHING = 1e-4  # a spread below it is taken for this: a program that never differs asks for no time


@dataclass(frozen=True)
class Shares:
    """Blocks of each workload, W of them.

    Attributes
    ----------
    blocks : tuple of int
    seconds : tuple of float
        What they take.
    """

    blocks: tuple[int, ...]
    seconds: tuple[float, ...]


def steadied(differences: Sequence[Floats]) -> Floats:
    """Return the spread of each workload's differences within blocks, shape (W,).

    Parameters
    ----------
    differences : sequence of ndarray
        Of the reference against itself, logarithms of ratios; what is not finite does not count, and a workload with
        fewer than 2 has the typical spread of the others.
    """
    logs, doubts = np.full(len(differences), np.nan), np.full(len(differences), np.nan)
    for w, found in enumerate(differences):
        finite = found[np.isfinite(found)]
        if finite.size > 1:
            logs[w] = math.log(max(_NOTHING, math.sqrt(float(np.mean(finite**2)))))
            doubts[w] = 1 / (2 * finite.size)  # of the log of a spread from so many, its mean known
    known = np.isfinite(logs)
    if not known.any():
        return np.ones(len(differences))
    centre = float(np.median(logs[known]))
    own = max(0.0, float(np.mean((logs[known] - centre) ** 2 - doubts[known]))) if known.sum() > 1 else math.inf
    kept = np.where(known, 1.0 if math.isinf(own) else own / (own + np.where(known, doubts, 1.0)), 0.0)
    return np.asarray(np.exp(centre + kept * (np.where(known, logs, centre) - centre)))


def shared_blocks(spreads: Floats, block_s: Floats, least: int | Floats, seconds: float, most: int) -> Shares | None:
    """Return the blocks of each workload that fit in a time; None where not even the least of all of them fit.

    Parameters
    ----------
    spreads, block_s : ndarray, shape (W,)
        Spread of differences within blocks, and seconds of one block, all arms.
    least : int or ndarray, shape (W,)
        Blocks that each workload has at least.
    most : int
        And at most.
    """
    variance = spreads**2
    if float(np.sum(block_s * least)) > seconds:
        return None
    allowed = _numbers(least, most, block_s.size)
    low, high = 0.0, most / float(variance.min())
    for _ in range(_STEPS):
        middle = (low + high) / 2
        blocks = np.clip(variance * middle, least, most)
        low, high = (middle, high) if float(blocks @ block_s) <= seconds else (low, middle)
    place = np.searchsorted(allowed, np.clip(variance * low, least, most) + 1e-9, side="right") - 1
    left = seconds - float(allowed[place] @ block_s)
    while (at := place[worst := int(np.argmin(allowed[place] / variance))]) + 1 < allowed.size:
        left -= float((allowed[at + 1] - allowed[at]) * block_s[worst])
        if left < 0:
            break
        place[worst] += 1
    blocks = allowed[place]
    return Shares(tuple(int(n) for n in blocks), tuple((blocks * block_s).tolist()))


def _numbers(least: int | Floats, most: int, workloads: int) -> Floats:
    """Return the numbers of blocks to choose from, ascending: any for a few workloads, some for many.

    The levels of the looks are computed once for each number, but for multiples of 40, which share them.
    """
    coarse = ((1, 0, 20), (2, 20, 40), (8, 40, 80), (20, 80, 160), (40, 160, most))
    steps = ((1, 0, most),) if workloads <= _FEW else coarse
    found = [np.arange(start, stop, step) for step, start, stop in steps]
    numbers = np.unique(np.concatenate([*found, np.atleast_1d(least), [most]]))
    return np.asarray(numbers[(numbers >= np.min(least)) & (numbers <= most)], dtype=np.float64)
