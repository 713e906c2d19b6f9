"""How an observation is going: time left, and precision; never who is ahead."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from bystander.design import BlockRun, Status, Study, TrialOutcome
from bystander.foresight.tried import Tried
from bystander.stats import interval, walsh_contrasts

__all__ = ["BETWEEN_S", "Pace", "Progress"]

BETWEEN_S = 0.004  # between two trials, by benchmarks/idle_between_trials.py
_STEADY = 20  # blocks from which on the precision is worked out anew less often, at every twentieth of them
_READABLE = 5.0  # half widths beyond e^5 say nothing


@dataclass(frozen=True)
class Progress:
    """How far an observation has come; never an estimate of a difference, which would invite stopping by hand.

    Attributes
    ----------
    done, planned : int
        Whole blocks; those planned are the most that may come.
    left_s : float
        Time left, in seconds.
    blocks : tuple of int
        Whole blocks of each workload.
    precision : tuple of float or None
        For each workload, half the width of its widest interval as a share; None while unbounded.
    decided : frozenset of int
        Workloads that have left.
    """

    done: int
    planned: int
    left_s: float
    blocks: tuple[int, ...]
    precision: tuple[float | None, ...]
    decided: frozenset[int] = frozenset()


class Pace:
    """Times and readings of blocks so far.

    Parameters
    ----------
    tried : tuple of Tried
        One trial each, from before the start: the first guess of how long a block takes.
    done : mapping
        Blocks of each workload that an earlier session left whole.
    """

    def __init__(self, study: Study, tried: tuple[Tried, ...], done: Mapping[int, int] | None = None) -> None:
        self.study = study
        self.before = [(done or {}).get(w, 0) for w in range(len(study.workloads))]
        self.blocks = list(self.before)
        self.guess = [0.0] * len(study.workloads)
        for one in tried:
            self.guess[one.workload] += one.outcome.took_s + BETWEEN_S
        self.spent = [0.0] * len(study.workloads)
        self.values: list[list[list[float]]] = [[] for _ in study.workloads]
        self.precision: list[float | None] = [None] * len(study.workloads)
        self.live = set(range(len(study.workloads)))

    @property
    def left_s(self) -> float:
        """Time left at most, in seconds: the mean of a workload's blocks so far, else its guess, times the rest."""
        total = 0.0
        for w in self.live:
            run = self.blocks[w] - self.before[w]
            mean = self.spent[w] / run if run else self.guess[w]
            total += mean * (self.study.planned_blocks[w] - self.blocks[w])
        return total

    def add(self, ran: BlockRun) -> Progress:
        """Count a whole block and return how far things are."""
        w = ran.workload
        self.spent[w] += ran.took_s
        self.blocks[w] += 1
        arms = range(len(self.study.arms))
        self.values[w].append([_log_reading(ran.outcomes.get(a), self.study.measure) for a in arms])
        count = len(self.values[w])
        if count % max(1, count // _STEADY) == 0:  # later it changes little, and the next trial waits for it
            self.precision[w] = self._precision(w)
        most = self.study.planned_blocks
        planned = sum(most[other] if other in self.live else done for other, done in enumerate(self.blocks))
        left = frozenset(range(len(self.blocks))) - self.live
        return Progress(sum(self.blocks), planned, self.left_s, tuple(self.blocks), tuple(self.precision), left)

    def _precision(self, w: int) -> float | None:
        """Return half the width of the widest interval at the study's risk, as a share."""
        values, compared = np.array(self.values[w]), self.study.all_comparisons
        if not compared:
            return None
        sides = [[one.arms[side] for one in compared] for side in (0, 1)]
        differences = (values[:, sides[1]] - values[:, sides[0]]).T
        widths = []
        for row in np.where(np.isfinite(differences), differences, 0.0):
            low, high = interval(walsh_contrasts(row[None, :], row[None, :]), np.array([self.study.risk]))
            widths.append(float(high[0] - low[0]) / 2)
        widest = max(widths)
        return math.expm1(widest) if widest < _READABLE else None


def _log_reading(outcome: TrialOutcome | None, measure: str) -> float:
    if outcome is None:
        return math.nan
    value = outcome.readings.get(measure, math.nan)
    return math.log(value) if value > 0 and outcome.status is Status.OK else math.nan
