"""Which trials of a record are held against each other: rows of workloads, block by block."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Comparison, Origin, Record, Trials
from bystander.stats import median
from bystander.verdicts.compared.together import Neighbours, together
from bystander.verdicts.words import Pairing

__all__ = ["RowTrials", "block_seconds", "first_blocks", "row_trials"]

Indices = NDArray[np.int64]


@dataclass(frozen=True)
class RowTrials:
    """The trials of one workload under both arms of a comparison.

    Attributes
    ----------
    reference, candidate : ndarray of int
        Rows of the record's trials; with pairing the i-th of both are of one block.
    paired : bool
    alone : int
        Trials in blocks where the other arm has none, which are left out.
    apart : int
        Blocks left out as their trials did not run back to back; see `together`.
    """

    workload: int
    comparison: Comparison
    reference: Indices
    candidate: Indices
    paired: bool
    alone: int
    apart: int = 0

    @property
    def key(self) -> tuple[int, Comparison]:
        """What tells it from the others of its record."""
        return self.workload, self.comparison

    @property
    def both(self) -> Indices:
        """All of them, the reference's first."""
        return np.concatenate([self.reference, self.candidate])

    @property
    def pairing(self) -> Pairing:
        """Whether they are compared block by block."""
        return Pairing.BLOCKS if self.paired else Pairing.NONE

    @property
    def turned(self) -> RowTrials:
        """The row with its arms changed over."""
        return replace(self, comparison=self.comparison.turned, reference=self.candidate, candidate=self.reference)


def first_blocks(trials: Trials, row: RowTrials, blocks: int) -> RowTrials:
    """Return the trials of a row that are in blocks below that number."""
    early = trials.block[row.reference] < blocks
    return row if early.all() else replace(row, reference=row.reference[early], candidate=row.candidate[early])


def block_seconds(record: Record, pair: RowTrials) -> float:
    """Return the typical seconds of one block of a workload, from when its trials began; NaN where it is not known.

    Between the starts of two trials that follow each other lies one trial: the reference's, or the candidate's. As
    their order is drawn both are seen, and other arms are taken to be like the mean of the two.
    """
    trials = record.trials
    if record.head.origin != Origin.OBSERVED or not pair.paired:
        return math.nan
    places = trials.order[pair.candidate] - trials.order[pair.reference]
    apart = np.abs(trials.started_s[pair.candidate] - trials.started_s[pair.reference])
    each = [seen for place in (1, -1) if (seen := apart[(places == place) & np.isfinite(apart)]).size]
    return sum(map(median, each)) / len(each) * len(record.head.study.arms) if each else math.nan


def _in_same_blocks(trials: Trials, reference: Indices, other: Indices) -> tuple[Indices, Indices]:
    """Return the trials of blocks in which both sides have one, by increasing block."""
    blocks = trials.block[reference], trials.block[other]
    if np.array_equal(*blocks) and (np.diff(blocks[0]) > 0).all():
        return reference, other
    _, left, right = np.intersect1d(*blocks, assume_unique=True, return_indices=True)
    return reference[left], other[right]


def row_trials(record: Record, comparison: Comparison, neighbours: Neighbours | None = None) -> list[RowTrials]:
    """Return the trials of each workload under both arms of a comparison.

    Parameters
    ----------
    neighbours : Neighbours, optional
        Of the record, where more of its comparisons are asked for.
    """
    neighbours = neighbours or Neighbours(record)
    trials, none = record.trials, np.zeros(0, dtype=np.int64)
    found = []
    for w in range(len(record.head.study.workloads)):
        reference, other = (trials.by_cell.get((w, arm), none) for arm in comparison.arms)
        both = np.concatenate([reference, other])
        paired = bool(both.size) and bool((trials.block[both] >= 0).all())
        alone = apart = 0
        if paired:
            reference, other = _in_same_blocks(trials, reference, other)
            alone = int(both.size - 2 * reference.size)
            near = together(neighbours, reference, other, both)
            if not near.all():
                apart = int(np.count_nonzero(~near))
                reference, other = reference[near], other[near]
        found.append(RowTrials(w, comparison, reference, other, paired, alone, apart))
    return found
