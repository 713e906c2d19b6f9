"""Which blocks of a record from elsewhere are pairs: a number in a file does not make two trials neighbours.

The rule: the two trials of a block are a pair where no trial of another block of that row started between them on
that machine, and the gap between their starts is explained. It is explained by what the trials of the block took in
it, and by as much idle time as blocks usually have: a minute, or ten times the median idle time between two trials of
a block that followed each other on that machine, whichever is more. Where starts are not told nothing can be held
against a pair; it is then not randomised either, see `order_doubt`.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bystander.design import Origin, Provenance, Record, Status

__all__ = ["MOST_LEADS", "from_elsewhere", "order_doubt", "together"]

Floats = NDArray[np.float64]
Indices = NDArray[np.int64]
Flags = NDArray[np.bool_]

MOST_LEADS = 0.9  # of blocks in which one arm ran first: a fair order leads so often in 1 of 100 records of 10 blocks
_IDLE_S, _IDLE_TIMES = 60.0, 10.0


def from_elsewhere(record: Record) -> bool:
    """Whether somebody else says when its trials ran."""
    return record.head.origin == Origin.IMPORTED or record.head.provenance in (Provenance.IMPORTED, Provenance.MERGED)


def together(record: Record, reference: Indices, candidate: Indices, row: Indices) -> Flags:
    """Return which blocks of a row are pairs, shape (n,).

    Parameters
    ----------
    reference, candidate : ndarray of int, shape (n,)
        Rows of the record's trials; the i-th of both are of one block.
    row : ndarray of int
        All trials of that workload under both arms.
    """
    trials = record.trials
    if not reference.size or not from_elsewhere(record):
        return np.ones(reference.size, dtype=bool)
    starts = trials.started_s
    first, last = np.fmin(starts[reference], starts[candidate]), np.fmax(starts[reference], starts[candidate])
    dated = np.isfinite(starts[reference]) & np.isfinite(starts[candidate])
    apart = np.zeros(reference.size, dtype=bool)
    machines = trials.machine[reference]
    for machine in np.unique(machines[dated]).tolist():
        mine = dated & (machines == machine)
        there = np.sort(starts[row[(trials.machine[row] == machine) & np.isfinite(starts[row])]])
        between = np.searchsorted(there, last[mine], "left") - np.searchsorted(there, first[mine], "right")
        idle = (last - first)[mine] - _ran(record, reference[mine], first[mine], last[mine])
        apart[mine] = (between > 0) | (idle > _most_idle(record, machine))
    found: Flags = ~apart & (trials.machine[candidate] == machines)
    return found


def _took(record: Record) -> Floats:
    """Return how long each trial took, in seconds; 0 where that is not known."""
    if not record.reads("elapsed"):
        return np.zeros(len(record.trials))
    took = record.column("elapsed")
    cut = (record.trials.status == int(Status.CUT)) & np.isfinite(record.trials.limit_s)
    return np.nan_to_num(np.where(cut, record.trials.limit_s, took), nan=0.0)


def _ran(record: Record, reference: Indices, first: Floats, last: Floats) -> Floats:
    """Return what the trials of each block that started in its gap took, whatever their arm."""
    trials, took = record.trials, _took(record)
    mine = np.flatnonzero(trials.workload == trials.workload[reference[0]])
    order = mine[np.argsort(trials.block[mine], kind="stable")]
    blocks = trials.block[order]
    bounds = [np.searchsorted(blocks, trials.block[reference], side) for side in ("left", "right")]
    found = np.zeros(reference.size)
    for i, (low, high) in enumerate(zip(*(ends.tolist() for ends in bounds), strict=True)):
        block = order[low:high]
        found[i] = took[block[(trials.started_s[block] >= first[i]) & (trials.started_s[block] < last[i])]].sum()
    return found


def _most_idle(record: Record, machine: int) -> float:
    """Return the idle time within a block that is usual enough on a machine, in seconds."""
    trials = record.trials
    there = np.flatnonzero((trials.machine == machine) & np.isfinite(trials.started_s))
    there = there[np.lexsort((trials.started_s[there], trials.block[there], trials.workload[there]))]
    idle = np.diff(trials.started_s[there]) - _took(record)[there][:-1]
    inside = (np.diff(trials.block[there]) == 0) & (np.diff(trials.workload[there]) == 0)
    usual = float(np.median(idle[inside])) if inside.any() else 0.0
    return max(_IDLE_S, _IDLE_TIMES * usual)


def order_doubt(record: Record, reference: Indices, candidate: Indices, paired: bool) -> str:
    """Return why it is not known that a row's arms ran in random order, as a clause; "" where there is no doubt.

    A random order is proved by an `order` that agrees with the starts, in which neither arm leads in over nine
    tenths of the blocks. What Bystander observed was drawn by its seed; there only the starts are compared.
    """
    trials = record.trials
    if not from_elsewhere(record) or not reference.size or not candidate.size:
        return ""
    if not paired:
        return "its trials belong to no blocks"
    ahead = trials.order[reference] < trials.order[candidate]
    if (trials.order[reference] < 0).any() or (trials.order[candidate] < 0).any():
        return "the order within blocks is not told"
    apart = trials.started_s[candidate] - trials.started_s[reference]
    if not np.isfinite(apart).all():
        return "when trials started is not told, so that their order cannot be checked"
    wrong = int(np.count_nonzero(ahead & (apart < 0)) + np.count_nonzero(~ahead & (apart > 0)))
    if wrong:
        return f"order and start times contradict each other in {wrong} of {reference.size} blocks"
    leads = int(np.count_nonzero(ahead))
    if record.head.origin == Origin.IMPORTED and max(leads, reference.size - leads) > MOST_LEADS * reference.size:
        arm = trials.arm[reference[0]] if 2 * leads > reference.size else trials.arm[candidate[0]]
        most = max(leads, reference.size - leads)
        return f"{record.head.study.arms[arm].name} ran first in {most} of {reference.size} blocks"
    return ""
