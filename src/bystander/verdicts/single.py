"""One arm by itself: how its readings are distributed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record, Status
from bystander.stats import SampleSummary, summarise

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
    summary : SampleSummary or None
        None when no trial ended well.
    """

    workload: str
    arm: str
    measure: Measure
    values: NDArray[np.float64]
    failed: int
    summary: SampleSummary | None


def describe(record: Record, measures: Sequence[Measure]) -> tuple[Single, ...]:
    """Describe every workload under every arm, for the measures given; NaN readings are left out."""
    trials, study = record.trials, record.head.study
    names = [measure.name for measure in record.head.measures]
    found = []
    for w, workload in enumerate(study.workloads):
        for a, arm in enumerate(study.arms):
            mine = (trials.workload == w) & (trials.arm == a)
            well = mine & (trials.status == Status.OK)
            failed = int(np.count_nonzero(mine) - np.count_nonzero(well))
            for measure in measures:
                values = trials.readings[well, names.index(measure.name)]
                values = values[np.isfinite(values)]
                summary = summarise(values) if values.size else None
                found.append(Single(workload.name, arm.name, measure, values, failed, summary))
    return tuple(found)
