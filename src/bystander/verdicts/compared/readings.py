"""One measure of all trials of a record as ranges: failures and floors make a reading uncertain, never missing."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from bystander.design import UNMARKED, Comparison, Measure, Record, Status
from bystander.verdicts.compared.floors import at_floor

__all__ = ["Readings", "readings_of"]

Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]


@dataclass(frozen=True)
class Readings:
    """A measure of n trials; arrays of shape (n,).

    A trial that ended well is its reading. One cut at its limit took at least that long. Of any other
    failure nothing is known. A reading at its floor may be anything up to the floor.

    Attributes
    ----------
    values : ndarray
        As they were read, NaN for none.
    good : ndarray of bool
        Whether the trial ended well.
    known : ndarray of bool
        Whether it can be compared: it was read, or failed.
    low, high : ndarray
        Ends of the range.
    floored : ndarray of bool
    """

    measure: Measure
    values: Floats
    good: Flags
    known: Flags
    low: Floats
    high: Floats
    floored: Flags

    @cached_property
    def log_low(self) -> Floats:
        """Logarithms of the low ends; meant where all of a row's good readings are above zero."""
        return _log(self.low)

    @cached_property
    def log_high(self) -> Floats:
        """Logarithms of the high ends."""
        return self.log_low if self.high is self.low else _log(self.high)

    @cached_property
    def odd(self) -> Flags:
        """Readings that are no plain number: failed, not read, at a floor, or without a logarithm."""
        return ~self.good | ~self.known | self.floored | self.not_above_zero

    @cached_property
    def not_above_zero(self) -> Flags:
        """Readings of good trials of which there is no logarithm."""
        return self.good & ~(self.values > 0)


def readings_of(record: Record, measure: Measure, comparison: Comparison) -> Readings:
    """Return a measure of all trials of a record.

    Parameters
    ----------
    comparison : Comparison
        Whose trials matter: a phase that neither of its arms had was not read, rather than took no time.
    """
    trials = record.trials
    values = _values(record, measure, comparison)
    good = ~trials.failed
    known = np.isfinite(values) | ~good
    floored = good & at_floor(record, slice(None), measure)
    if good.all() and not floored.any():
        return Readings(measure, values, good, known, values, values, floored)
    low, high = np.where(good, values, -np.inf), np.where(good, values, np.inf)
    if measure.name == "elapsed":
        cut = (trials.status == Status.CUT) & np.isfinite(trials.limit_s)
        low[cut] = trials.limit_s[cut]
    if measure.floor is not None and record.reads(measure.floor):
        low[floored], high[floored] = -np.inf, np.maximum(high, record.column(measure.floor))[floored]
    return Readings(measure, values, good, known, low, high, floored)


def _values(record: Record, measure: Measure, comparison: Comparison) -> Floats:
    """Return the readings; a phase that a trial of a program with phases did not have took no time."""
    trials, values = record.trials, record.column(measure.name)
    if not measure.is_phase or not record.reads(UNMARKED):
        return values
    had = np.isfinite(values) & np.isin(trials.arm, comparison.arms)
    with_it = np.bincount(trials.workload[had], minlength=len(record.head.study.workloads)) > 0
    marked = np.isfinite(record.column(UNMARKED))
    return np.where(np.isnan(values) & marked & with_it[trials.workload], 0.0, values)


def _log(values: Floats) -> Floats:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(values == -np.inf, -np.inf, np.log(values))
