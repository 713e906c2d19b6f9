"""By how much an estimate is off because its row stopped at a look: a row that looked large stopped early."""

from __future__ import annotations

import math
from collections.abc import Sequence
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from bystander.stats.looks import Looks

__all__ = ["stopping_bias", "student_quantile"]

Floats = NDArray[np.float64]
_PATHS = 12  # of each row of a large suite, whose errors average out; a few rows have more
_ALL_PATHS = 480
_CORRECTIONS = 2
_STEP = 0.7


def stopping_bias(
    estimates: Floats, spreads: Floats, looks: Sequence[Looks], margins: Floats, risk: float, seed: int = 0
) -> Floats:
    """Return what to add to each estimate, shape (R,), so that it is right on average over where it could have stopped.

    Paths of normal differences with the row's spread are followed to the look at which they stop, by t-tests in the
    place of the rank tests; sought is the shift whose paths end, on average, at the estimate. From t1 = 2 t - e(t),
    twice t <- t - 0.7 (e(t) - estimate), where e is the mean end (bias reduction as of Whitehead 1986).

    Parameters
    ----------
    estimates, spreads : ndarray, shape (R,)
        Pseudo-median and standard deviation of the differences within blocks. A row without a finite pair, or without
        a spread, is taken as it is.
    looks : sequence of Looks
        The plan of each row.
    margins : ndarray, shape (R,)
        On the scale of the differences: a change stops a row only beyond it, and within it is "the same".
    risk : float
        At which one row stops: the study's, over its tests.
    """
    found = np.zeros(estimates.size)
    drawn = np.random.default_rng(seed)
    paths = max(_PATHS, _ALL_PATHS // max(1, estimates.size))
    usable = np.isfinite(estimates) & np.isfinite(spreads) & (spreads > 0)
    rows: dict[Looks, list[int]] = {}
    for i in np.flatnonzero(usable).tolist():
        rows.setdefault(looks[i], []).append(i)
    for plan, places in rows.items():
        mine = np.array(places)
        if len(plan.blocks) > 1:
            ends = _Paths(plan, risk, margins[mine] / spreads[mine], paths, drawn)
            seen = estimates[mine] / spreads[mine]
            shift = 2 * seen - ends.mean(seen)
            for _ in range(_CORRECTIONS):
                shift = shift - _STEP * (ends.mean(shift) - seen)
            found[mine] = (shift - seen) * spreads[mine]
    return found


class _Paths:
    """Normal paths of rows with one plan, in standard deviations of a block: only their sums at the looks are drawn."""

    def __init__(self, plan: Looks, risk: float, margins: Floats, paths: int, drawn: np.random.Generator) -> None:
        blocks = np.array(plan.blocks, dtype=np.float64)
        new = np.diff(blocks, prepend=0.0)
        shape = (margins.size, paths, blocks.size)
        self._between = drawn.standard_normal(shape) / np.sqrt(new)  # of the mean of the new blocks of each look
        within = drawn.chisquare(np.maximum(new - 1, 1e-9), shape) * (new > 1)
        self._blocks, self._new = blocks, new
        self._within, self._margins = np.cumsum(within, axis=2), margins[:, None, None]
        every = range(blocks.size)
        self._changed = np.array([_bound(plan, k, risk) for k in every])
        self._same = np.array([_bound(plan, k, 2 * risk) for k in every])

    def mean(self, shift: Floats) -> Floats:
        """Return the mean estimate at the end of the paths with a shift, shape (R,)."""
        each = shift[:, None, None] + self._between
        means = np.cumsum(each * self._new, axis=2) / self._blocks
        squares = self._within + np.cumsum(each**2 * self._new, axis=2) - means**2 * self._blocks
        error = np.sqrt(np.maximum(squares, 0.0) / np.maximum(self._blocks - 1, 1) / self._blocks)
        size = np.abs(means)
        changed = (size >= self._changed * error) & (size > self._margins)
        stops = changed | (self._margins - size >= self._same * error)
        stops[..., -1] = True
        ends = np.take_along_axis(means, np.argmax(stops, axis=2)[..., None], axis=2)
        return np.asarray(ends[..., 0].mean(axis=1))


def _bound(plan: Looks, look: int, risk: float) -> float:
    """Return how many standard errors away a mean stops at a look."""
    level = float(plan.nominal(look, np.array(min(1.0, risk))))
    freedom = plan.blocks[look] - 1
    return student_quantile(level, freedom) if freedom > 0 and level > 0 else math.inf


def student_quantile(level: float, freedom: int) -> float:
    """Return the x beyond which, on either side, Student's t lies with a probability of `level` (Hill 1970).

    Parameters
    ----------
    level : float
        In (0, 1]; both sides together.
    freedom : int
        Degrees of freedom, at least 1; from 3 on to six digits, below exactly.
    """
    if level >= 1:
        return 0.0
    if freedom == 1:
        return 1 / math.tan(level * math.pi / 2)
    if freedom == 2:
        return math.sqrt(2 / (level * (2 - level)) - 2)
    n = float(freedom)
    a = 1 / (n - 0.5)
    b = 48 / a**2
    c = ((20700 * a / b - 98) * a - 16) * a + 96.36
    d = ((94.5 / (b + c) - 3) / b + 1) * math.sqrt(a * math.pi / 2) * n
    y = (d * level) ** (2 / n)
    if y > 0.05 + a:
        x = NormalDist().inv_cdf(level / 2)
        y = x * x
        if n < 5:
            c += 0.3 * (n - 4.5) * (x + 0.6)
        c += (((0.05 * d * x - 5) * x - 7) * x - 2) * x + b
        y = (((((0.4 * y + 6.3) * y + 36) * y + 94.5) / c - y - 3) / b + 1) * x
        y = math.expm1(a * y * y)
    else:
        y = ((1 / (((n + 6) / (n * y) - 0.089 * d - 0.822) * (n + 2) * 3) + 0.5 / (n + 4)) * y - 1) * (n + 1) / (
            n + 2
        ) + 1 / y
    return math.sqrt(n * y)
