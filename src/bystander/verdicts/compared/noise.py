"""What the blocks of a record tell of its noise, with whatever changed taken away."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import Comparison, Measure, Record
from bystander.stats import estimates, median, walsh_contrasts
from bystander.verdicts.compared.compared import ComparedRecord
from bystander.verdicts.compared.row_readings import row_readings
from bystander.verdicts.compared.row_trials import RowTrials, block_seconds
from bystander.verdicts.words import Scale

__all__ = ["Noise", "noises"]

Floats = NDArray[np.float64]
_FEWEST = 3


@dataclass(frozen=True)
class Noise:
    """How much one workload differs from itself.

    Attributes
    ----------
    differences : mapping
        By measure: logarithms of the ratio of two trials of one block, shape (k,), k at least 3.
    computing : float
        CPU time over elapsed time of the reference; NaN where it is not known.
    block_s : float
        Seconds that a block takes, every arm once; NaN where it is not known.
    """

    workload: int
    differences: Mapping[str, Floats]
    computing: float
    block_s: float


def noises(record: Record, measures: Sequence[str]) -> list[Noise]:
    """Return the noise of each workload of a record that was observed in blocks, by each of these measures it has.

    It is what the record's placebo differs from the reference; else what the first candidate does, less its estimate.
    An estimate from k blocks takes 1 in k of the square of the noise away with it, which is given back. Blocks in
    which a trial failed, or lay at its floor, are left out.
    """
    study = record.head.study
    comparison = study.control or next(iter(study.comparisons), None)
    if comparison is None:
        return []
    compared = ComparedRecord(record)
    pairs = compared.rows(comparison)
    found: dict[int, dict[str, Floats]] = {}
    for measure in record.head.measures:
        if measure.name in measures:
            for pair, differences in _differences(compared, comparison, measure, estimated=study.control is None):
                found.setdefault(pair.workload, {})[measure.name] = differences
    return [
        Noise(w, by_measure, _computing(record, pairs[w]), block_seconds(record, pairs[w]))
        for w, by_measure in sorted(found.items())
    ]


def _differences(
    compared: ComparedRecord, comparison: Comparison, measure: Measure, estimated: bool
) -> list[tuple[RowTrials, Floats]]:
    pairs, readings = compared.rows(comparison), compared.readings(measure, comparison)
    found = []
    for pair, row in zip(pairs, row_readings(compared.record.trials, pairs, readings, 0.0), strict=True):
        if not row.paired or row.scale != Scale.RATIO:
            continue
        low, high = row.differences
        known = low[np.isfinite(low) & (low == high)]
        if known.size < _FEWEST:
            continue
        if estimated:
            middle = float(estimates(walsh_contrasts(known[None], known[None]))[0])
            known = (known - middle) * math.sqrt(known.size / (known.size - 1))
        found.append((pair, known))
    return found


def _computing(record: Record, pair: RowTrials) -> float:
    if not record.reads("cpu", "elapsed"):
        return math.nan
    rows = pair.reference[~record.trials.failed[pair.reference]]
    with np.errstate(divide="ignore", invalid="ignore"):
        shares = record.column("cpu")[rows] / record.column("elapsed")[rows]
    return median(shares[np.isfinite(shares)])
