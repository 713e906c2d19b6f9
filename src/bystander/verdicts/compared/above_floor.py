"""What remains above the floor: each trial less the trial of its floor in the same block, under the same arm."""

from __future__ import annotations

import numpy as np

from bystander.design import ABOVE_FLOOR, Measure, Record, Status

__all__ = ["with_floors"]

_MEASURE = Measure(ABOVE_FLOOR, "time above the floor", "s")


def with_floors(record: Record) -> Record:
    """Return a record with one more measure where workloads name a floor; the same record otherwise.

    Both trials are of one block number and arm, so that a swap of the arms flips the difference as it must.
    Where the floor's trial failed, nothing is known.
    """
    study, trials = record.head.study, record.trials
    places = {workload.name: w for w, workload in enumerate(study.workloads)}
    # A record from elsewhere may name a floor that it does not have.
    floors = {w: places[one.floor] for w, one in enumerate(study.workloads) if one.floor in places}
    if not floors or not record.reads("elapsed") or record.reads(ABOVE_FLOOR):
        return record
    elapsed = record.column("elapsed")
    good = trials.status == Status.OK
    column = np.full(len(trials), np.nan)
    for workload, floor in floors.items():
        for arm in range(len(study.arms)):
            mine, under = (
                np.flatnonzero((trials.workload == w) & (trials.arm == arm) & good & (trials.block >= 0))
                for w in (workload, floor)
            )
            _, above, below = np.intersect1d(
                trials.block[mine], trials.block[under], assume_unique=True, return_indices=True
            )
            column[mine[above]] = elapsed[mine[above]] - elapsed[under[below]]
    return record.with_measure(_MEASURE, column)
