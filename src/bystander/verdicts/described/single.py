"""One arm by itself: how its readings are distributed."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record
from bystander.stats import SampleSummary, summarise_rows
from bystander.verdicts.compared.floors import at_floor

__all__ = ["Single", "describe"]

Floats = NDArray[np.float64]
Indices = NDArray[np.int64]


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
    values: Floats
    failed: int
    at_floor: int
    summary: SampleSummary | None


def describe(record: Record, measures: Sequence[Measure], counting: NDArray[np.bool_]) -> tuple[Single, ...]:
    """Describe every workload under every arm, for the measures given; NaN readings are left out.

    Parameters
    ----------
    counting : ndarray of bool, shape (n,)
        Which trials of the record to describe.
    """
    trials, study = record.trials, record.head.study
    count = len(study.workloads) * len(study.arms)
    groups = trials.workload * len(study.arms) + trials.arm
    failed = np.bincount(groups[trials.failed & counting], minlength=count).tolist()
    order = np.argsort(groups, kind="stable")
    order = order[(counting & ~trials.failed)[order]]
    columns = [_by_group(record, order, groups[order], count, measure) for measure in measures]
    return tuple(
        Single(w.name, a.name, measure, values[group], failed[group], floored[group], summaries[group])
        for group, (w, a) in enumerate(itertools.product(study.workloads, study.arms))
        for measure, (values, floored, summaries) in zip(measures, columns, strict=True)
    )


def _by_group(
    record: Record, order: Indices, groups: Indices, count: int, measure: Measure
) -> tuple[list[Floats], list[int], list[SampleSummary | None]]:
    """Return the readings of each group of trials, how many are at their floor, and their summary.

    Parameters
    ----------
    order, groups : ndarray of int
        Trials that ended well, group after group, and the group of each.
    """
    values = record.column(measure.name)[order]
    read = np.isfinite(values)
    order, groups, values = order[read], groups[read], values[read]
    floored = np.bincount(groups[at_floor(record, order, measure)], minlength=count).tolist()
    bounds = np.searchsorted(groups, np.arange(count + 1))
    sizes = np.diff(bounds)
    pieces, summaries = [values[:0]] * count, cast("list[SampleSummary | None]", [None] * count)
    for size in np.unique(sizes[sizes > 0]).tolist():  # groups of one size together
        places = np.flatnonzero(sizes == size)
        table = values[bounds[places][:, None] + np.arange(size)]
        for group, row, summary in zip(places.tolist(), table, summarise_rows(table), strict=True):
            pieces[group], summaries[group] = row, summary
    return pieces, floored, summaries
