"""Where a step lies among commits: a posterior over them, from block differences of probes against the good end.

Probabilistic bisection (Horstein 1963; Waeber, Frazier and Henderson 2013) with a likelihood that heavy tails do not
mislead: Student's t with four degrees of freedom, over a grid of effects and scales. A grid that reaches down to no
effect at all would never end; it reaches from half of the estimated effect to one and a half of it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from bystander.stats.sample import robust_spread

__all__ = ["BUILT_WITHIN", "StepPosterior", "failing_step", "timed_step"]

Floats = NDArray[np.float64]
BUILT_WITHIN = 0.06  # a commit that is built already is preferred so near to the median of the posterior
_EFFECTS, _SCALES = np.linspace(0.5, 1.5, 11), np.exp(np.linspace(-0.8, 0.8, 9))
_T4_OF_NORMAL = 0.84  # the scale of t4 that fits a normal of standard deviation 1 best
_FAILS_BEFORE, _FAILS_AFTER = (0.001, 0.02, 0.1), (0.25, 0.5, 0.75, 0.9, 0.99)


class StepPosterior:
    """The probability of each commit of being the first one after the step.

    Parameters
    ----------
    commits : int
        How many could be: they are numbered from 1; 0 is the good end.
    likelihood : callable
        From an observation, a block difference or whether a trial failed, to its log likelihood before the step and
        after it, each of shape (K,) over a grid of what else is not known.
    """

    def __init__(self, commits: int, likelihood: _Likelihood) -> None:
        self.commits, self._likelihood = commits, likelihood
        self._log = np.zeros((commits, likelihood.size))

    def probed(self, commit: int, observations: Sequence[float]) -> None:
        """Take observations of a commit, 1 or more, against the good end: a step at it or before it lies between."""
        self._add(np.arange(1, self.commits + 1) <= commit, observations)

    def verified(self, before: int, after: int, observations: Sequence[float]) -> None:
        """Take observations of one commit against another: they differ where the step lies between the two."""
        at = np.arange(1, self.commits + 1)
        self._add((before < at) & (at <= after), observations)

    def _add(self, stepped: NDArray[np.bool_], observations: Sequence[float]) -> None:
        for one in observations:
            without, with_it = self._likelihood.of(one)
            self._log += np.where(stepped[:, None], with_it, without)
        self._log -= self._log.max()

    @property
    def shares(self) -> Floats:
        """The probability of each commit, from 1 on, shape (commits,)."""
        each = np.exp(self._log).sum(axis=1)
        return np.asarray(each / each.sum())

    def probe(self, candidates: Sequence[int], built: Sequence[int]) -> int | None:
        """Return the commit to try next: the one that halves the posterior best, a built one where that is as good.

        Parameters
        ----------
        candidates : sequence of int
            Commits that can be tried, from 1 to commits - 1.
        """
        if not len(candidates):
            return None
        below = np.cumsum(self.shares)
        off = {commit: abs(float(below[commit - 1]) - 0.5) for commit in candidates}
        best = min(candidates, key=lambda commit: (off[commit], commit))
        near = [commit for commit in built if commit in off and off[commit] <= off[best] + BUILT_WITHIN]
        return min(near, key=lambda commit: (off[commit], commit)) if near else best

    def in_question(self, share: float = 0.99) -> int:
        """Return how many commits it takes to hold such a share of the probability."""
        ordered = np.sort(self.shares)[::-1]
        return int(np.searchsorted(np.cumsum(ordered), share - 1e-12)) + 1


class _Likelihood(Protocol):
    """Log likelihoods over a grid of nuisance parameters."""

    size: int

    def of(self, observation: float) -> tuple[Floats, Floats]:
        """Return those before the step and after it, each of shape (size,)."""


class _Timed:
    def __init__(self, effect: float, scale: float) -> None:
        effects, scales = np.meshgrid(effect * _EFFECTS, scale * _SCALES)
        self._effects, self._scales = effects.ravel(), scales.ravel()
        self.size = self._effects.size

    def of(self, observation: float) -> tuple[Floats, Floats]:
        return self._t4(observation, 0.0), self._t4(observation, self._effects)

    def _t4(self, value: float, mean: Floats | float) -> Floats:
        z = (value - mean) / self._scales
        return np.asarray(-2.5 * np.log1p(z * z / 4) - np.log(self._scales))


class _Failing:
    def __init__(self) -> None:
        before, after = np.meshgrid(_FAILS_BEFORE, _FAILS_AFTER)
        self._before, self._after = before.ravel(), after.ravel()
        self.size = self._before.size

    def of(self, observation: float) -> tuple[Floats, Floats]:
        if observation > 0.5:
            return np.log(self._before), np.log(self._after)
        return np.log1p(-self._before), np.log1p(-self._after)


def timed_step(commits: int, effect: float, differences: Floats) -> StepPosterior:
    """Return the posterior for a step in time, before anything is probed.

    Parameters
    ----------
    effect : float
        The pseudo-median of the block differences of both ends, on the log scale; not 0.
    differences : ndarray, shape (n,)
        Those differences; their robust spread is where the grid of scales is centred.
    """
    spread = robust_spread(differences)
    if not spread > 0:
        spread = float(np.std(differences)) or abs(effect) / 10
    scale = max(spread * _T4_OF_NORMAL, abs(effect) * 1e-4)
    if not math.isfinite(scale) or not effect:
        raise ValueError("a step needs an effect and a spread that are numbers")
    return StepPosterior(commits, _Timed(effect, scale))


def failing_step(commits: int) -> StepPosterior:
    """Return the posterior for a step from a program that works to one that fails; observations are 0 or 1."""
    return StepPosterior(commits, _Failing())
