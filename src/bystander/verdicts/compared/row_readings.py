"""From trials to contrasts: readings become intervals, blocks become differences, rows become batches."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from bystander.design import Trials
from bystander.stats import WRITTEN_OUT, Contrasts, median, pairwise_contrasts, walsh_contrasts
from bystander.verdicts.compared.readings import Readings
from bystander.verdicts.compared.row_trials import RowTrials
from bystander.verdicts.words import Scale

__all__ = ["Batch", "RowReadings", "batches", "paired_batches", "row_readings"]

Floats = NDArray[np.float64]
Indices = NDArray[np.int64]
_BATCH_CONTRASTS = 4_000_000  # that are written out at once
_BATCH_BLOCKS = 32_000  # whose contrasts are counted at once: so few stay close to the processor
_DIFFERENCES = ("", "1", "share")  # counts and shares


class RowReadings(NamedTuple):
    """What is tested of one row, on the row's scale (logarithms for ratios).

    Attributes
    ----------
    margin : float
        The margin on that scale.
    reference, candidate : pair of ndarray
        Low and high ends of each reading.
    medians : pair of float
        Of the reference's and the candidate's good trials, in the measure's unit.
    ends : pair of pairs of float
        The least and the greatest of them, for both arms.
    unread : int
        Blocks left out because this measure was not read in them.
    at_floor : int
        Readings at the least value that can be seen.
    blocks : ndarray of int
        Of each pair; -1 without pairing.
    candidate_first : ndarray of bool
        Whether the candidate ran before the reference in the block.
    """

    scale: Scale
    margin: float
    reference: tuple[Floats, Floats]
    candidate: tuple[Floats, Floats]
    medians: tuple[float, float]
    ends: tuple[tuple[float, float], tuple[float, float]]
    paired: bool
    unread: int
    at_floor: int
    blocks: Indices
    candidate_first: NDArray[np.bool_]

    @property
    def exact(self) -> bool:
        """Whether every reading is known exactly: no failure, none at its floor."""
        return all(
            (low is high or np.array_equal(low, high)) and np.isfinite(low).all()
            for low, high in (self.reference, self.candidate)
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


def row_readings(trials: Trials, rows: Sequence[RowTrials], readings: Readings, margin: float) -> list[RowReadings]:
    """Return what is tested of each row for a measure, with failed trials kept as intervals.

    Rows whose blocks were all read, exactly, are taken together by their size; the others are looked at one by one.
    """
    found: list[RowReadings | None] = [None] * len(rows)
    sizes: dict[int, list[int]] = {}
    for i, row in enumerate(rows):
        if row.paired and row.reference.size:
            sizes.setdefault(row.reference.size, []).append(i)
    scale = Scale.DIFFERENCE if readings.measure.unit in _DIFFERENCES else Scale.RATIO
    low = readings.log_low if scale == Scale.RATIO else readings.low
    for n, members in sizes.items():
        sides = [np.stack([getattr(rows[i], side) for i in members]) for side in ("reference", "candidate")]
        plain = ~(readings.odd[sides[0]] | readings.odd[sides[1]]).any(axis=1)
        values = [readings.values[side] for side in sides]
        middles = [np.partition(side, ((n - 1) // 2, n // 2), axis=1)[:, [(n - 1) // 2, n // 2]].mean(axis=1)
                   for side in values]  # fmt: skip
        ends = [low[side] for side in sides]
        blocks, first = trials.block[sides[0]], trials.order[sides[1]] < trials.order[sides[0]]
        medians = zip(*(middle.tolist() for middle in middles), strict=True)
        extremes = [np.stack([side.min(axis=1), side.max(axis=1)], axis=1).tolist() for side in values]
        for k, (i, middle) in enumerate(zip(members, medians, strict=True)):
            if plain[k]:
                reference, candidate = ends[0][k], ends[1][k]
                found[i] = RowReadings(
                    scale, _margin_on(scale, margin, middle[0]), (reference, reference), (candidate, candidate), middle,
                    (tuple(extremes[0][k]), tuple(extremes[1][k])), True, 0, 0, blocks[k], first[k],
                )  # fmt: skip
    return [
        kept if kept is not None else _uneven(trials, row, readings, margin)
        for row, kept in zip(rows, found, strict=True)
    ]


def _margin_on(scale: Scale, margin: float, reference: float) -> float:
    """Return the margin on a row's scale; of a difference it is a share of the reference's median."""
    if scale == Scale.RATIO:
        return math.log1p(margin)
    return margin * abs(reference if math.isfinite(reference) else 0.0)


def _uneven(trials: Trials, row: RowTrials, readings: Readings, margin: float) -> RowReadings:
    """Return what is tested of a row with failures, floors, trials that were not read, or no blocks."""
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
    good = [readings.values[side][readings.good[side]] for side in sides]
    medians = [median(values) for values in good]
    extremes = [(float(values.min()), float(values.max())) if values.size else (math.nan, math.nan) for values in good]
    ratio = readings.measure.unit not in _DIFFERENCES and not any(readings.not_above_zero[side].any() for side in sides)
    scale = Scale.RATIO if ratio else Scale.DIFFERENCE
    low, high = (readings.log_low, readings.log_high) if ratio else (readings.low, readings.high)
    ends = [(kept := low[side], kept if high is low else high[side]) for side in sides]
    return RowReadings(
        scale, _margin_on(scale, margin, medians[0]), ends[0], ends[1], (medians[0], medians[1]),
        (extremes[0], extremes[1]), row.paired, unread,
        int(sum(np.count_nonzero(readings.floored[side]) for side in sides)), trials.block[reference],
        trials.order[candidate] < trials.order[reference] if row.paired else np.zeros(0, dtype=bool),
    )  # fmt: skip


@dataclass(frozen=True)
class Batch:
    """Rows whose contrasts are examined together; `rows` are their positions."""

    rows: Indices
    contrasts: Contrasts


def batches(rows: Sequence[RowReadings]) -> Iterator[Batch]:
    """Yield all testable rows: paired ones of equal size together, others one by one."""
    paired = [i for i, row in enumerate(rows) if row.testable and row.paired]
    for i, row in enumerate(rows):
        if row.testable and not row.paired:
            yield Batch(np.array([i]), pairwise_contrasts(row.reference, row.candidate))
    for batch in paired_batches([rows[i].differences for i in paired]):
        yield Batch(np.array(paired)[batch.rows], batch.contrasts)


def paired_batches(differences: Sequence[tuple[Floats, Floats]]) -> Iterator[Batch]:
    """Yield rows of block differences, given by their low and high ends, those of equal size together."""
    sizes: dict[int, list[int]] = {}
    for i, (low, _) in enumerate(differences):
        sizes.setdefault(low.size, []).append(i)
    for n, members in sizes.items():
        if n == 0:
            continue
        together = _BATCH_CONTRASTS // (n * (n + 1) // 2) if n <= WRITTEN_OUT else max(1, _BATCH_BLOCKS // n)
        for start in range(0, len(members), together):
            part = members[start : start + together]
            lows, highs = zip(*(differences[i] for i in part), strict=True)
            low = np.stack(lows)
            exact = all(one is other for one, other in zip(lows, highs, strict=True))
            yield Batch(np.array(part), walsh_contrasts(low, low if exact else np.stack(highs)))
