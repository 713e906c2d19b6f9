"""One arm by itself: how its readings are distributed."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record, Status
from bystander.stats import SampleSummary, summarise
from bystander.verdicts.floors import at_floor

__all__ = ["Single", "describe"]


@dataclass(frozen=True)
class Single:
    """A workload under one arm, for one measure.

    Attributes
    ----------
    values : ndarray, shape (n,)
        Readings of the trials that ended well, in the order of the record.
    failed : int
        Trials that did not.
    at_floor : int
        Readings at the least value that can be seen: the truth may be lower.
    summary : SampleSummary or None
        None when no trial ended well.
    """

    workload: str
    arm: str
    measure: Measure
    values: NDArray[np.float64]
    failed: int
    at_floor: int
    summary: SampleSummary | None


def describe(record: Record, measures: Sequence[Measure]) -> tuple[Single, ...]:
    """Describe every workload under every arm, for the measures given; NaN readings are left out."""
    trials, study = record.trials, record.head.study
    names = [measure.name for measure in record.head.measures]
    columns = [names.index(measure.name) for measure in measures]
    groups = trials.workload * len(study.arms) + trials.arm
    order = np.argsort(groups, kind="stable")
    bounds = np.searchsorted(groups[order], np.arange(len(study.workloads) * len(study.arms) + 1))
    found = []
    for group, (w, a) in enumerate(itertools.product(study.workloads, study.arms)):
        mine = order[bounds[group] : bounds[group + 1]]
        well = mine[trials.status[mine] == Status.OK]
        for measure, column in zip(measures, columns, strict=True):
            read = well[np.isfinite(trials.readings[well, column])]
            values = trials.readings[read, column]
            floored = at_floor(trials, read, measure, names)
            summary = summarise(values) if values.size else None
            found.append(
                Single(w.name, a.name, measure, values, int(mine.size - well.size), int(floored.sum()), summary)
            )
    return tuple(found)
