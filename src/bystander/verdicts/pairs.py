"""From trials to contrasts: readings become intervals, blocks become differences, rows become batches."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Record, Trials
from bystander.stats import WRITTEN_OUT, Contrasts, median, pairwise_contrasts, walsh_contrasts
from bystander.verdicts.readings import Readings
from bystander.verdicts.together import together

__all__ = [
    "Batch",
    "Material",
    "RowTrials",
    "batches",
    "block_seconds",
    "first_blocks",
    "material",
    "materials",
    "paired_batches",
    "row_trials",
]

Floats = NDArray[np.float64]
Indices = NDArray[np.int64]
_BATCH_CONTRASTS = 4_000_000
_DIFFERENCES = ("", "1", "share")  # counts and shares


@dataclass(frozen=True)
class RowTrials:
    """The trials of one workload under the reference and one candidate.

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
    arm: int
    reference: Indices
    candidate: Indices
    paired: bool
    alone: int
    apart: int = 0


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
    if record.head.origin != "observed" or not pair.paired:
        return math.nan
    places = trials.order[pair.candidate] - trials.order[pair.reference]
    apart = np.abs(trials.started_s[pair.candidate] - trials.started_s[pair.reference])
    each = [seen for place in (1, -1) if (seen := apart[(places == place) & np.isfinite(apart)]).size]
    return sum(map(median, each)) / len(each) * len(record.head.study.arms) if each else math.nan


def row_trials(record: Record, candidate: int) -> list[RowTrials]:
    """Return the trials of each workload, compared between the reference and one candidate."""
    trials, workloads = record.trials, len(record.head.study.workloads)
    order = np.argsort(trials.workload, kind="stable")
    bounds = np.searchsorted(trials.workload[order], np.arange(workloads + 1))
    found = []
    for w in range(workloads):
        mine = order[bounds[w] : bounds[w + 1]]
        reference, other = mine[trials.arm[mine] == 0], mine[trials.arm[mine] == candidate]
        both = np.concatenate([reference, other])
        paired = bool(both.size) and bool((trials.block[both] >= 0).all())
        alone = apart = 0
        if paired:
            _, left, right = np.intersect1d(
                trials.block[reference], trials.block[other], assume_unique=True, return_indices=True
            )
            alone = int(both.size - 2 * left.size)
            reference, other = reference[left], other[right]
            near = together(record, reference, other, both)
            if not near.all():
                apart = int(np.count_nonzero(~near))
                reference, other = reference[near], other[near]
        found.append(RowTrials(w, candidate, reference, other, paired, alone, apart))
    return found


@dataclass(frozen=True)
class Material:
    """What is tested of one row, on the row's scale (logarithms for ratios).

    Attributes
    ----------
    scale : str
        "ratio" or "difference".
    margin : float
        The margin on that scale.
    reference, candidate : pair of ndarray
        Low and high ends of each reading.
    medians : pair of float
        Of the reference's and the candidate's good trials, in the measure's unit.
    unread : int
        Blocks left out because this measure was not read in them.
    at_floor : int
        Readings at the least value that can be seen.
    blocks : ndarray of int
        Of each pair; -1 without pairing.
    candidate_first : ndarray of bool
        Whether the candidate ran before the reference in the block.
    """

    scale: str
    margin: float
    reference: tuple[Floats, Floats]
    candidate: tuple[Floats, Floats]
    medians: tuple[float, float]
    paired: bool
    unread: int
    at_floor: int
    blocks: Indices
    candidate_first: NDArray[np.bool_]

    @property
    def exact(self) -> bool:
        """Whether every reading is known exactly: no failure, none at its floor."""
        return all(
            np.array_equal(low, high) and np.isfinite(low).all() for low, high in (self.reference, self.candidate)
        )

    @property
    def differences(self) -> tuple[Floats, Floats]:
        """Low and high ends of candidate less reference, with pairing."""
        low = self.candidate[0] - self.reference[1]
        exact = self.candidate[0] is self.candidate[1] and self.reference[0] is self.reference[1]
        return low, low if exact else self.candidate[1] - self.reference[0]

    @property
    def size(self) -> int:
        """Blocks with pairing; else 0."""
        return self.reference[0].size if self.paired else 0

    @property
    def testable(self) -> bool:
        """Whether both sides have a reading."""
        return bool(self.reference[0].size and self.candidate[0].size)


def material(trials: Trials, row: RowTrials, readings: Readings, margin: float) -> Material:
    """Return what is tested of a row for a measure, with failed trials kept as intervals."""
    reference, candidate = row.reference, row.candidate
    unread = 0
    if row.paired:
        both = readings.known[reference] & readings.known[candidate]
        if not both.all():
            unread = int(np.count_nonzero(~both))
            reference, candidate = reference[both], candidate[both]
    else:
        reference, candidate = reference[readings.known[reference]], candidate[readings.known[candidate]]
    sides = (reference, candidate)
    medians = [median(readings.values[side][readings.good[side]]) for side in sides]
    ratio = readings.measure.unit not in _DIFFERENCES and not any(readings.not_above_zero[side].any() for side in sides)
    low, high = (readings.log_low, readings.log_high) if ratio else (readings.low, readings.high)
    ends = [(kept := low[side], kept if high is low else high[side]) for side in sides]
    scale_margin = math.log1p(margin) if ratio else margin * abs(medians[0] if math.isfinite(medians[0]) else 0.0)
    return Material(
        "ratio" if ratio else "difference", scale_margin, ends[0], ends[1], (medians[0], medians[1]), row.paired,
        unread, int(sum(np.count_nonzero(readings.floored[side]) for side in sides)), trials.block[reference],
        trials.order[candidate] < trials.order[reference] if row.paired else np.zeros(0, dtype=bool),
    )  # fmt: skip


def materials(trials: Trials, rows: Sequence[RowTrials], readings: Readings, margin: float) -> list[Material]:
    """Return `material` of many rows: those in blocks that were all read, exactly, are taken together by their size."""
    found: list[Material | None] = [None] * len(rows)
    odd = ~readings.good | ~readings.known | readings.floored | readings.not_above_zero
    sizes: dict[int, list[int]] = {}
    for i, row in enumerate(rows):
        if row.paired and row.reference.size:
            sizes.setdefault(row.reference.size, []).append(i)
    ratio = readings.measure.unit not in _DIFFERENCES
    for n, members in sizes.items():
        sides = [np.stack([getattr(rows[i], side) for i in members]) for side in ("reference", "candidate")]
        plain = ~(odd[sides[0]] | odd[sides[1]]).any(axis=1)
        middles = [np.sort(readings.values[side], axis=1)[:, [(n - 1) // 2, n // 2]].mean(axis=1) for side in sides]
        ends = [(readings.log_low if ratio else readings.low)[side] for side in sides]
        blocks, first = trials.block[sides[0]], trials.order[sides[1]] < trials.order[sides[0]]
        medians = zip(*(middle.tolist() for middle in middles), strict=True)
        for k, (i, middle) in enumerate(zip(members, medians, strict=True)):
            if plain[k]:
                reference, candidate = ends[0][k], ends[1][k]
                found[i] = Material(
                    "ratio" if ratio else "difference", math.log1p(margin) if ratio else margin * abs(middle[0]),
                    (reference, reference), (candidate, candidate), middle, True, 0, 0, blocks[k], first[k],
                )  # fmt: skip
    return [
        kept if kept is not None else material(trials, row, readings, margin)
        for row, kept in zip(rows, found, strict=True)
    ]


@dataclass(frozen=True)
class Batch:
    """Rows whose contrasts are examined together; `rows` are their positions."""

    rows: Indices
    contrasts: Contrasts


def batches(materials: Sequence[Material]) -> Iterator[Batch]:
    """Yield all testable rows: paired ones of equal size together, others one by one."""
    paired = [i for i, row in enumerate(materials) if row.testable and row.paired]
    for i, row in enumerate(materials):
        if row.testable and not row.paired:
            yield Batch(np.array([i]), pairwise_contrasts(row.reference, row.candidate))
    for batch in paired_batches([materials[i].differences for i in paired]):
        yield Batch(np.array(paired)[batch.rows], batch.contrasts)


def paired_batches(differences: Sequence[tuple[Floats, Floats]]) -> Iterator[Batch]:
    """Yield rows of block differences, given by their low and high ends, those of equal size together."""
    sizes: dict[int, list[int]] = {}
    for i, (low, _) in enumerate(differences):
        sizes.setdefault(low.size, []).append(i)
    for n, members in sizes.items():
        if n == 0:
            continue
        together = max(1, _BATCH_CONTRASTS // (n * (n + 1) // 2)) if n <= WRITTEN_OUT else 1
        for start in range(0, len(members), together):
            part = members[start : start + together]
            low, high = (np.stack([differences[i][end] for i in part]) for end in (0, 1))
            yield Batch(np.array(part), walsh_contrasts(low, high))
