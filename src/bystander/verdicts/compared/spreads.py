"""How much one code differs from itself: between samples of a trial, trials of a block, and blocks of a record."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import Record
from bystander.stats import block_and_trial_spread
from bystander.verdicts.compared.compared import ComparedRecord, main_measure
from bystander.verdicts.compared.row_readings import row_readings
from bystander.verdicts.compared.row_trials import RowTrials
from bystander.verdicts.words import Scale

__all__ = ["Spread", "spreads"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Spread:
    """The spread of one workload by the study's measure, as standard deviations on the log scale.

    Attributes
    ----------
    samples, trials, blocks : float
        Within a trial of a callable, within a block, and between blocks; NaN where there are too few.
    middle, error : float
        Mean log reading of the reference, and its standard error from blocks and trials.
    counted : int
        Blocks.
    """

    workload: int
    samples: float
    trials: float
    blocks: float
    middle: float
    error: float
    counted: int


def spreads(record: Record) -> tuple[Spread, ...]:
    """Return the spread of each workload that has blocks without failures, and ratios.

    Blocks are those of the first comparison, so a change between them takes no part.
    """
    study = record.head.study
    if not study.comparisons:
        return ()
    measure, compared, comparison = main_measure(record), ComparedRecord(record), study.comparisons[0]
    pairs, readings = compared.rows(comparison), compared.readings(measure, comparison)
    found = []
    for pair, row in zip(pairs, row_readings(record.trials, pairs, readings, study.margin), strict=True):
        if row.paired and row.testable and row.exact and row.scale == Scale.RATIO:
            first, second = row.reference[0], row.candidate[0]
            blocks, trials = block_and_trial_spread(first, second)
            error = math.hypot(blocks, trials) / math.sqrt(first.size)
            samples = _within(record, pair, measure.name)
            found.append(Spread(pair.workload, samples, trials, blocks, float(np.mean(first)), error, int(first.size)))
    return tuple(found)


def _within(record: Record, pair: RowTrials, measure: str) -> float:
    """Return the typical spread of the logs of a trial's samples, NaN without any."""
    rows = pair.both.tolist()
    each = [record.samples[row, measure] for row in rows if (row, measure) in record.samples]
    each = [values for values in each if values.size > 1 and (values > 0).all()]
    return float(np.median([np.std(np.log(values), ddof=1) for values in each])) if each else math.nan
