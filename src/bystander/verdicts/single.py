"""One arm by itself: how its readings are distributed."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record
from bystander.stats import SampleSummary, summarise_rows
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
    drafts = []
    for group, (w, a) in enumerate(itertools.product(study.workloads, study.arms)):
        mine = order[bounds[group] : bounds[group + 1]]
        well = mine[~trials.failed[mine]]
        for measure, column in zip(measures, columns, strict=True):
            values = trials.readings[well, column]
            read = np.isfinite(values)
            floored = 0
            if measure.floor in names:
                floored = int(np.count_nonzero(at_floor(trials, well[read], measure, names)))
            failed = int(mine.size - well.size)
            drafts.append(Single(w.name, a.name, measure, values[read], failed, floored, None))
    return _summarised(drafts)


def _summarised(drafts: Sequence[Single]) -> tuple[Single, ...]:
    """Fill in the summaries, those of one size together."""
    sizes: dict[int, list[int]] = {}
    for i, draft in enumerate(drafts):
        if draft.values.size:
            sizes.setdefault(draft.values.size, []).append(i)
    found = list(drafts)
    for places in sizes.values():
        summaries = summarise_rows(np.stack([drafts[i].values for i in places]))
        for i, summary in zip(places, summaries, strict=True):
            found[i] = replace(drafts[i], summary=summary)
    return tuple(found)
