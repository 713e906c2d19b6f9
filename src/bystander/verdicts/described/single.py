"""One arm by itself: how its readings are distributed."""

from __future__ import annotations

import itertools
import math
from collections.abc import Container, Sequence
from dataclasses import dataclass
from typing import cast

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record
from bystander.stats import SampleSummary, summarise_rows
from bystander.units import duration_text, share_text
from bystander.verdicts.compared.floors import at_floor

__all__ = ["Single", "describe", "queue_sentences"]

_MUCH_QUEUED = 0.3  # of the time of a trial

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


def queue_sentences(singles: Sequence[Single], sampled: Container[str]) -> list[str]:
    """Return which workloads of one arm waited for a processor for much of their time, and what the code itself took.

    Parameters
    ----------
    sampled : container of str
        Workloads of whose trials samples are timed: the run queue is that of whole trials, and CPU time of samples.
    """
    by_name = {(one.workload, one.arm, one.measure.name): one.summary.median for one in singles if one.summary}
    found = []
    for (workload, arm, measure), elapsed_s in by_name.items():
        cpu_s = by_name.get((workload, arm, "cpu"), math.nan)
        queued_s = by_name.get((workload, arm, "run_queue_delay"), math.nan)
        queued_s = elapsed_s - cpu_s if workload in sampled else queued_s
        if measure != "elapsed" or not queued_s >= _MUCH_QUEUED * elapsed_s or math.isnan(cpu_s):
            continue
        what = "had no processor" if workload in sampled else "waited for a processor"
        found.append(
            f"{workload} {what} for {share_text(min(1.0, queued_s / elapsed_s))} of its time: CPU time, "
            f"{duration_text(cpu_s, 3)}, is what the code took."
        )
    return found
