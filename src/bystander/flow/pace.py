"""How an observation is going: time left, and precision; never who is ahead."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from bystander.design import PlannedBlock, Status, Study, TrialOutcome
from bystander.flow.observer import Progress
from bystander.flow.rehearsal import Tried
from bystander.stats import interval, walsh_contrasts

__all__ = ["BETWEEN_S", "Pace"]

BETWEEN_S = 0.004  # between two trials, by benchmarks/idle_between_trials.py
_READABLE = 5.0  # half widths beyond e^5 say nothing


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
            total += mean * (self.study.blocks - self.blocks[w])
        return total

    def add(self, block: PlannedBlock, outcomes: Mapping[int, TrialOutcome], seconds: float) -> Progress:
        """Count a whole block and return how far things are."""
        w = block.workload
        self.spent[w] += seconds
        self.blocks[w] += 1
        self.values[w].append([_log_reading(outcomes[a], self.study.measure) for a in range(len(self.study.arms))])
        self.precision[w] = self._precision(w)
        planned = sum(self.study.blocks if other in self.live else done for other, done in enumerate(self.blocks))
        left = frozenset(range(len(self.blocks))) - self.live
        return Progress(sum(self.blocks), planned, self.left_s, tuple(self.blocks), tuple(self.precision), left)

    def _precision(self, w: int) -> float | None:
        """Return half the width of the widest interval at the study's risk, as a share."""
        values = np.array(self.values[w])
        if values.shape[1] == 1:
            return None
        differences = (values[:, 1:] - values[:, :1]).T
        widths = []
        for row in np.where(np.isfinite(differences), differences, 0.0):
            low, high = interval(walsh_contrasts(row[None, :], row[None, :]), np.array([self.study.risk]))
            widths.append(float(high[0] - low[0]) / 2)
        widest = max(widths)
        return math.expm1(widest) if widest < _READABLE else None


def _log_reading(outcome: TrialOutcome, measure: str) -> float:
    value = outcome.readings.get(measure, math.nan)
    return math.log(value) if value > 0 and outcome.status is Status.OK else math.nan
