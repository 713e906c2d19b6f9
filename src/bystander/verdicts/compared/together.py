"""Which blocks of a record from elsewhere are pairs: a number in a file does not make two trials neighbours.

The rule: the two trials of a block are a pair where no trial of another block of that row started between them on
that machine, and the gap between their starts is explained. It is explained by what the trials of the block took in
it, and by as much idle time as blocks usually have: a minute, or ten times the median idle time between two trials of
a block that followed each other on that machine, whichever is more. Where starts are not told nothing can be held
against a pair; it is then not randomised either, see `order_doubt`.
"""

from __future__ import annotations

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from bystander.design import Origin, Provenance, Record, Status, Trials

__all__ = ["MOST_LEADS", "Neighbours", "from_elsewhere", "order_doubt", "together"]

Floats = NDArray[np.float64]
Indices = NDArray[np.int64]
Flags = NDArray[np.bool_]

MOST_LEADS = 0.9  # of blocks in which one arm ran first: a fair order leads so often in 1 of 100 records of 10 blocks
_IDLE_S, _IDLE_TIMES = 60.0, 10.0


def from_elsewhere(record: Record) -> bool:
    """Whether somebody else says when its trials ran."""
    return record.head.origin == Origin.IMPORTED or record.head.provenance in (Provenance.IMPORTED, Provenance.MERGED)


class Neighbours:
    """What the rule asks of a whole record, worked out once however many rows there are."""

    def __init__(self, record: Record) -> None:
        self.record = record
        self._idle: dict[int, float] = {}
        self._sums: dict[int, _Sums] = {}

    @cached_property
    def took(self) -> Floats:
        """How long each trial took, in seconds."""
        return _took(self.record)

    def ran(self, workload: int, blocks: Indices, first: Floats, last: Floats) -> Floats:
        """Return what the trials of blocks that started between two moments took in all, whatever their arm."""
        if workload not in self._sums:
            self._sums[workload] = _Sums(self.record.trials, self.took, workload)
        return self._sums[workload].between(blocks, first, last)

    def most_idle(self, machine: int) -> float:
        """Return the idle time within a block that is usual enough on a machine, in seconds."""
        if machine not in self._idle:
            self._idle[machine] = _most_idle(self.record, machine, self.took)
        return self._idle[machine]


def together(neighbours: Neighbours, reference: Indices, candidate: Indices, row: Indices) -> Flags:
    """Return which blocks of a row are pairs, shape (n,).

    Parameters
    ----------
    reference, candidate : ndarray of int, shape (n,)
        Rows of the record's trials; the i-th of both are of one block.
    row : ndarray of int
        All trials of that workload under both arms.
    """
    record = neighbours.record
    trials = record.trials
    if not reference.size or not from_elsewhere(record):
        return np.ones(reference.size, dtype=bool)
    starts = trials.started_s
    first, last = np.fmin(starts[reference], starts[candidate]), np.fmax(starts[reference], starts[candidate])
    dated = np.isfinite(starts[reference]) & np.isfinite(starts[candidate])
    apart = np.zeros(reference.size, dtype=bool)
    machines, workload = trials.machine[reference], int(trials.workload[reference[0]])
    for machine in np.unique(machines[dated]).tolist():
        mine = dated & (machines == machine)
        there = np.sort(starts[row[(trials.machine[row] == machine) & np.isfinite(starts[row])]])
        between = np.searchsorted(there, last[mine], "left") - np.searchsorted(there, first[mine], "right")
        ran = neighbours.ran(workload, trials.block[reference[mine]], first[mine], last[mine])
        idle = (last - first)[mine] - ran
        apart[mine] = (between > 0) | (idle > neighbours.most_idle(machine))
    found: Flags = ~apart & (trials.machine[candidate] == machines)
    return found


def _took(record: Record) -> Floats:
    """Return how long each trial took, in seconds; 0 where that is not known."""
    if not record.reads("elapsed"):
        return np.zeros(len(record.trials))
    took = record.column("elapsed")
    cut = (record.trials.status == int(Status.CUT)) & np.isfinite(record.trials.limit_s)
    return np.nan_to_num(np.where(cut, record.trials.limit_s, took), nan=0.0)


class _Sums:
    """The times of a workload's trials, block after block and by their starts, added up: sums between two moments."""

    def __init__(self, trials: Trials, took: Floats, workload: int) -> None:
        mine = np.flatnonzero((trials.workload == workload) & np.isfinite(trials.started_s))
        self._blocks = np.unique(trials.block[mine])
        starts = trials.started_s[mine]
        self._begin = float(starts.min()) if mine.size else 0.0
        self._span = (float(starts.max()) if mine.size else 0.0) - self._begin + 1.0
        keys = self._keys(trials.block[mine], starts)
        order = np.argsort(keys, kind="stable")
        self._ordered = keys[order]
        self._sums = np.concatenate([[0.0], np.cumsum(took[mine][order])])

    def _keys(self, blocks: Indices, moments: Floats) -> Floats:
        return np.asarray(np.searchsorted(self._blocks, blocks) * self._span + (moments - self._begin))

    def between(self, blocks: Indices, first: Floats, last: Floats) -> Floats:
        ends = [np.searchsorted(self._ordered, self._keys(blocks, moment), "left") for moment in (first, last)]
        return np.asarray(self._sums[ends[1]] - self._sums[ends[0]])


def _most_idle(record: Record, machine: int, took: Floats) -> float:
    """Return the idle time within a block that is usual enough on a machine, in seconds."""
    trials = record.trials
    there = np.flatnonzero((trials.machine == machine) & np.isfinite(trials.started_s))
    there = there[np.lexsort((trials.started_s[there], trials.block[there], trials.workload[there]))]
    idle = np.diff(trials.started_s[there]) - took[there][:-1]
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
