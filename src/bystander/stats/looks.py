"""Looks at a comparison before its last block, with the error held over all of them (group-sequential levels)."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

__all__ = ["Looks", "RowLooks", "fixed_look", "planned_looks"]

# Of the most blocks. Twice as many looks as would do: a change is found with 8 % fewer blocks for a point of power.
# Strict levels pay for each look as if it stood alone, so there are fewer.
STRICT_SHARES = (0.2, 0.3, 0.45, 0.675, 1.0)
LOOK_SHARES = (0.2, 0.25, 0.3, 0.35, 0.425, 0.5, 0.6, 0.7, 0.85, 1.0)
Floats = NDArray[np.float64]
Whole = NDArray[np.int64] | int

_USUAL = (0.01, 0.02, 0.05, 0.1, 0.2)  # risks at which levels are not interpolated
_LEAST = 1e-14  # below it, what earlier looks could have shown as well is neglected, which is cautious
_NODES = 48  # for half of the region of going on; the density in it is smooth
_MOST_NEWTON = 60
_erfc = np.frompyfunc(math.erfc, 1, 1)


@dataclass(frozen=True)
class Looks:
    """The planned looks of one comparison, K of them.

    Over the share t of its blocks the error `risk * t` is spent (Lan and DeMets 1983; Kim and DeMets 1987,
    rho = 1). With Z of a look standard normal and Z sqrt(t) of independent increments, the nominal level of
    each look follows by numerical recursion (Armitage, McPherson and Rowe 1969).

    Attributes
    ----------
    blocks : tuple of int
        After how many blocks; the last is the most.
    strict : bool
        Spend `risk * (t - t before)` at each look as if no earlier look overlapped it: proved to hold for any
        dependence between looks (Bonferroni), and shows a little less.
    """

    blocks: tuple[int, ...]
    strict: bool = False
    times: tuple[float, ...] = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "times", tuple(n / self.blocks[-1] for n in self.blocks))

    @property
    def most(self) -> int:
        """Blocks at the last look."""
        return self.blocks[-1]

    def last_within(self, blocks: int) -> int | None:
        """Return the position of the last look that so many blocks reach; None before the first."""
        reached = sum(n <= blocks for n in self.blocks)
        return reached - 1 if reached else None

    def nominal(self, look: Whole, risk: Floats) -> Floats:
        """Return the nominal two-sided level of a look when `risk` is spent over all; risk in [0, 1]."""
        return self._each(look, risk, self._nominal)

    def levels(self, risk: float) -> list[float]:
        """Return the nominal two-sided level of every look when `risk`, in [0, 1], is spent over all."""
        every = np.arange(len(self.blocks))
        found: list[float] = self.nominal(every, np.full(every.size, risk)).tolist()
        return found

    def overall(self, look: Whole, p: Floats) -> Floats:
        """Return inf{risk : p <= nominal(look, risk)}, at most 1: what p of that look is worth over all looks."""
        return self._each(look, p, self._overall)

    def overall_one_sided(self, look: Whole, p: Floats) -> Floats:
        """Return inf{risk : p <= nominal(look, 2 risk) / 2}: the same for a one-sided p."""
        return self._each(look, p, self._one_sided)

    def _each(self, look: Whole, values: Floats, one: Callable[[int, Floats], Floats]) -> Floats:
        """Apply to values of one shape with `look`, those of one look together."""
        look, values = np.broadcast_arrays(look, np.asarray(values, dtype=np.float64))
        found = np.array(values)
        for k in np.unique(look).tolist():
            found[look == k] = one(k, values[look == k])
        return found

    def _nominal(self, look: int, risk: Floats) -> Floats:
        step = self._step(look)
        if self.strict or len(self.blocks) == 1:
            return risk * step
        risks, levels = _boundaries(self.times)
        with np.errstate(divide="ignore"):
            found = np.exp(np.interp(np.log(risk), np.log(risks), np.log(levels[look])))
        return np.where(risk < _LEAST, risk * step, found)

    def _overall(self, look: int, p: Floats) -> Floats:
        step = self._step(look)
        if self.strict or len(self.blocks) == 1:
            return np.minimum(1.0, p / step)
        risks, levels = _boundaries(self.times)
        with np.errstate(divide="ignore"):
            found = np.exp(np.interp(np.log(p), np.log(levels[look]), np.log(risks)))
        found = np.where(p > levels[look][-1], 1.0, found)
        return np.where(p < levels[look][0], np.minimum(p / step, _LEAST), found)

    def _one_sided(self, look: int, p: Floats) -> Floats:
        top = float(self._nominal(look, np.ones(1))[0])
        twice = self._overall(look, np.minimum(1.0, 2 * p)) / 2
        return np.where(2 * p <= top, twice, p if top >= 1 else 1.0)

    def _step(self, look: int) -> float:
        return self.times[look] - (self.times[look - 1] if look else 0.0)


class RowLooks:
    """The looks of several rows, R of them, each by its own plan; asked as `Looks` is, with one value a row."""

    def __init__(self, rows: Sequence[Looks]) -> None:
        self.rows = tuple(rows)
        codes = {plan: code for code, plan in enumerate(dict.fromkeys(self.rows))}
        mine = np.array([codes[row] for row in self.rows], dtype=np.int64)
        order, ends = np.argsort(mine, kind="stable"), np.cumsum(np.bincount(mine, minlength=len(codes)))
        self._plans = dict(zip(codes, np.split(order, ends[:-1]), strict=True)) if codes else {}

    def nominal(self, look: NDArray[np.int64], risk: Floats) -> Floats:
        """Return the nominal two-sided level of each row's look, shape (R,); see `Looks.nominal`."""
        return self._each(lambda plan, at: plan.nominal(look[at], risk[at]), risk)

    def overall(self, look: NDArray[np.int64], p: Floats) -> Floats:
        """Return what p of each row's look is worth over all its looks, shape (R,)."""
        return self._each(lambda plan, at: plan.overall(look[at], p[at]), p)

    def overall_one_sided(self, look: NDArray[np.int64], p: Floats) -> Floats:
        """Return the same for one-sided p, shape (R,)."""
        return self._each(lambda plan, at: plan.overall_one_sided(look[at], p[at]), p)

    def at_last(self, risk: float) -> Floats:
        """Return the nominal level of each row's last look, shape (R,)."""
        wanted = np.array(risk)
        return self._each(lambda plan, _: plan.nominal(len(plan.blocks) - 1, wanted), np.zeros(len(self.rows)))

    def only(self, places: Sequence[int]) -> RowLooks:
        """Return the looks of some rows."""
        return RowLooks([self.rows[i] for i in places])

    def _each(self, one: Callable[[Looks, NDArray[np.int64]], Floats], like: Floats) -> Floats:
        found = np.array(like, dtype=np.float64)
        for plan, at in self._plans.items():
            found[at] = one(plan, at)
        return found


def fixed_look(blocks: int) -> Looks:
    """Return the one look of a fixed number of blocks."""
    return Looks((max(1, blocks),))


def planned_looks(most: int, risk: float, strict: bool = False) -> Looks:
    """Return the looks at which a comparison could be shown changed at all.

    Parameters
    ----------
    most : int
        Blocks at the last look, 1 or more.
    risk : float
        That of one comparison: the study's over the number of comparisons. A look whose least possible p,
        2^(1 - n), is above what it may spend is left out, and the others have its share; where none is left, the
        last remains, which then shows nothing.
    """
    kept: list[int] = []
    for n in sorted({max(1, math.ceil(most * share - 1e-9)) for share in (STRICT_SHARES if strict else LOOK_SHARES)}):
        spent = risk * (n - (kept[-1] if strict and kept else 0)) / most
        if 2.0 ** (1 - n) <= spent or n == most:
            kept.append(n)
    return Looks(tuple(kept), strict)


@lru_cache(maxsize=256)
def _boundaries(times: tuple[float, ...]) -> tuple[Floats, Floats]:
    """Return risks, ascending, shape (A,), and for each look the nominal levels that spend them, shape (K, A)."""
    small, middle, large = np.geomspace(_LEAST, 1e-3, 40), np.geomspace(1e-3, 0.5, 45), np.linspace(0.5, 1, 26)
    risks = np.unique(np.concatenate([small, middle, large, _USUAL]))
    nodes, weights = np.polynomial.legendre.leggauss(_NODES)
    nodes, weights = (nodes + 1) / 2, weights / 2
    # The density of B = Z sqrt(t) where no look stopped, on half of its symmetric region; first all at 0.
    places, mass = np.zeros((risks.size, 1)), np.full((risks.size, 1), 0.5)
    before, levels = 0.0, []
    for t in times:
        step = math.sqrt(t - before)
        bound = _crossed(risks * (t - before), math.sqrt(t), places, mass, step)
        levels.append(_two_sided(bound / math.sqrt(t)))
        new = bound[:, None] * nodes
        density = np.zeros_like(new)
        for k in range(places.shape[1]):
            for side in (new - places[:, k : k + 1], new + places[:, k : k + 1]):
                density += mass[:, k : k + 1] * np.exp(-0.5 * (side / step) ** 2)
        places, mass = new, density / (step * math.sqrt(2 * math.pi)) * (bound[:, None] * weights)
        before = t
    return risks, np.minimum(np.stack(levels), 1.0)


def _two_sided(z: Floats) -> Floats:
    return np.asarray(_erfc(z / math.sqrt(2.0)), dtype=np.float64)


def _crossed(spent: Floats, spread: float, places: Floats, mass: Floats, step: float) -> Floats:
    """Return b >= 0 with P(going on until now, and |B| > b) = spent, by Newton's method on its logarithm.

    Without the earlier looks more would cross, so that the bound without them lies above the root. The logarithm
    is concave in b, and from above its steps come down to the root without passing it.
    """
    normal = NormalDist()
    bound = np.array([-spread * normal.inv_cdf(tail / 2) for tail in spent.tolist()])
    for _ in range(_MOST_NEWTON):
        above, below = (bound[:, None] - places) / step, (bound[:, None] + places) / step
        crossing = np.sum(mass * (_two_sided(above) + _two_sided(below)), axis=1)
        slope = np.sum(mass * (np.exp(-0.5 * above**2) + np.exp(-0.5 * below**2)), axis=1)
        move = crossing * np.log(crossing / spent) / slope * (step * math.sqrt(math.pi / 2))
        bound = np.maximum(0.0, bound + move)
        if np.abs(move).max() < 1e-9 * step:
            break
    return bound
