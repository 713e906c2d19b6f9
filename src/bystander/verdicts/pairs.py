"""From trials to contrasts: readings become intervals, blocks become differences, rows become batches."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import UNMARKED, Measure, Record, Status, Trials
from bystander.stats import Contrasts, median, pairwise_contrasts, walsh_contrasts
from bystander.stats.signed_rank import WRITTEN_OUT
from bystander.verdicts.floors import at_floor

__all__ = ["Batch", "Material", "RowTrials", "batches", "material", "row_trials"]

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
    """

    workload: int
    arm: int
    reference: Indices
    candidate: Indices
    paired: bool
    alone: int


def row_trials(trials: Trials, workloads: int, candidate: int) -> list[RowTrials]:
    """Return the trials of each workload, compared between the reference and one candidate."""
    order = np.argsort(trials.workload, kind="stable")
    bounds = np.searchsorted(trials.workload[order], np.arange(workloads + 1))
    found = []
    for w in range(workloads):
        mine = order[bounds[w] : bounds[w + 1]]
        reference, other = mine[trials.arm[mine] == 0], mine[trials.arm[mine] == candidate]
        both = np.concatenate([reference, other])
        paired = bool(both.size) and bool((trials.block[both] >= 0).all())
        alone = 0
        if paired:
            _, left, right = np.intersect1d(
                trials.block[reference], trials.block[other], assume_unique=True, return_indices=True
            )
            alone = int(both.size - 2 * left.size)
            reference, other = reference[left], other[right]
        found.append(RowTrials(w, candidate, reference, other, paired, alone))
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
    def size(self) -> int:
        """Blocks with pairing; else 0."""
        return self.reference[0].size if self.paired else 0

    @property
    def testable(self) -> bool:
        """Whether both sides have a reading."""
        return bool(self.reference[0].size and self.candidate[0].size)


def material(record: Record, row: RowTrials, measure: Measure, margin: float) -> Material:
    """Return what is tested of a row for a measure, with failed trials kept as intervals."""
    trials = record.trials
    names = [m.name for m in record.head.measures]
    values = _values(trials, row, measure, names)
    reference, candidate = row.reference, row.candidate
    read = (np.isfinite(values[reference]) | (trials.status[reference] != Status.OK),
            np.isfinite(values[candidate]) | (trials.status[candidate] != Status.OK))  # fmt: skip
    unread = 0
    if row.paired:
        both = read[0] & read[1]
        unread = int(np.count_nonzero(~both))
        reference, candidate = reference[both], candidate[both]
    else:
        reference, candidate = reference[read[0]], candidate[read[1]]
    good = [values[side][trials.status[side] == Status.OK] for side in (reference, candidate)]
    medians = [median(side) for side in good]
    ratio = measure.unit not in _DIFFERENCES and all((side > 0).all() for side in good)
    sides, floor_readings = [], 0
    for side in (reference, candidate):
        low, high, floored = _ends(trials, side, values, measure, names)
        floor_readings += floored
        sides.append((_log(low), _log(high)) if ratio else (low, high))
    scale_margin = np.log1p(margin) if ratio else margin * abs(np.nan_to_num(medians[0]))
    return Material(
        "ratio" if ratio else "difference", float(scale_margin), sides[0], sides[1],
        (medians[0], medians[1]), row.paired, unread, floor_readings, trials.block[reference],
        trials.order[candidate] < trials.order[reference] if row.paired else np.zeros(0, dtype=bool),
    )  # fmt: skip


def _values(trials: Trials, row: RowTrials, measure: Measure, names: Sequence[str]) -> Floats:
    """Return the readings of all trials; a phase that a trial of a program with phases did not have took no time."""
    values = trials.readings[:, names.index(measure.name)]
    if not measure.is_phase or UNMARKED not in names:
        return values
    mine = np.concatenate([row.reference, row.candidate])
    if not np.isfinite(values[mine]).any():
        return values
    marked = np.isfinite(trials.readings[:, names.index(UNMARKED)])
    return np.where(np.isnan(values) & marked, 0.0, values)


def _log(values: Floats) -> Floats:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(values == -np.inf, -np.inf, np.log(values))


def _ends(
    trials: Trials, side: Indices, values: Floats, measure: Measure, names: Sequence[str]
) -> tuple[Floats, Floats, int]:
    """Return low and high end of each reading.

    A trial that ended well is its reading. One cut at its limit took at least that long. Of any other
    failure nothing is known. A reading at its floor may be anything up to the floor.
    """
    low, high = values[side].copy(), values[side].copy()
    failed = trials.status[side] != Status.OK
    low[failed], high[failed] = -np.inf, np.inf
    if measure.name == "elapsed":
        cut = trials.status[side] == Status.CUT
        limits = trials.limit_s[side]
        low[cut] = np.where(np.isfinite(limits[cut]), limits[cut], -np.inf)
    floored = ~failed & at_floor(trials, side, measure, names)
    if measure.floor in names:
        floor = trials.readings[side, names.index(measure.floor)]
        low[floored], high[floored] = -np.inf, np.maximum(high, floor)[floored]
    return low, high, int(np.count_nonzero(floored))


@dataclass(frozen=True)
class Batch:
    """Rows whose contrasts are examined together; `rows` are their positions."""

    rows: Indices
    contrasts: Contrasts


def batches(materials: Sequence[Material]) -> Iterator[Batch]:
    """Yield all testable rows: paired ones of equal size together, others one by one."""
    sizes: dict[int, list[int]] = {}
    for i, row in enumerate(materials):
        if row.testable and row.paired:
            sizes.setdefault(row.size, []).append(i)
        elif row.testable:
            yield Batch(np.array([i]), pairwise_contrasts(row.reference, row.candidate))
    for n, members in sizes.items():
        together = max(1, _BATCH_CONTRASTS // (n * (n + 1) // 2)) if n <= WRITTEN_OUT else 1
        for start in range(0, len(members), together):
            part = members[start : start + together]
            low = np.stack([materials[i].candidate[0] - materials[i].reference[1] for i in part])
            high = np.stack([materials[i].candidate[1] - materials[i].reference[0] for i in part])
            yield Batch(np.array(part), walsh_contrasts(low, high))
