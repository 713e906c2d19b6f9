"""Ceilings: holds, broken or unclear, with what speaks against it."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from bystander.design import Record, gated_measure
from bystander.stats import holm, serial_z
from bystander.verdicts.ceilings import CeilingRow
from bystander.verdicts.compared.compared import ComparedRecord
from bystander.verdicts.tested.ceilings import CeilingTest
from bystander.verdicts.words import CeilingVerdict

__all__ = ["ceiling_rows"]

_DEPENDENT_Z = 2.3263  # one-sided, 1 %
_DISTINCT = 1 / 3
_FEWEST = 12  # trials of which it can be told whether they depend on each other
_OF_A_PAUSE = 0.9  # what of the pause that was asked for tells two sessions apart: clocks are set meanwhile


def ceiling_rows(compared: ComparedRecord, tests: Sequence[CeilingTest], risk: float) -> tuple[CeilingRow, ...]:
    """Return what is said of every ceiling under every arm, in the study's order.

    Each may be called broken where it holds, or the other way round, with a probability of the risk over all of
    them together (Holm 1979), if trials are independent of each other.
    """
    if not tests:
        return ()
    adjusted = holm(np.array([min(test.p_holds, test.p_broken) for test in tests]), len(tests)).tolist()
    return tuple(_row(compared, test, p, risk) for test, p in zip(tests, adjusted, strict=True))


def _row(compared: ComparedRecord, test: CeilingTest, p_adjusted: float, risk: float) -> CeilingRow:
    record = compared.record
    study = record.head.study
    verdict = CeilingVerdict.UNCLEAR
    if p_adjusted <= risk:
        verdict = CeilingVerdict.HOLDS if test.p_holds < test.p_broken else CeilingVerdict.BROKEN
    z = _serial(record, test)
    return CeilingRow(
        study.workloads[test.workload].name, study.arms[test.arm].name, test.ceiling,
        test.measure or gated_measure(test.ceiling.measure), int(test.trials.size), test.beyond, test.failed,
        test.unread, test.p_holds, test.p_broken, p_adjusted, verdict, z, bool(z >= _DEPENDENT_Z),
        _sessions(record, test), test.look is not None, test.in_all,
    )  # fmt: skip


def _serial(record: Record, test: CeilingTest) -> float:
    """Return by how much trials resemble the one before them; a failed one counts as the longest."""
    if test.measure is None or test.trials.size < _FEWEST:
        return math.nan
    values = record.column(test.measure.name)[test.trials]
    if test.measure.unit == "B" and np.unique(values).size < _DISTINCT * values.size:
        return math.nan  # memory of a few sizes: what is beyond is a matter of the program, not of the minute
    return serial_z(np.where(record.trials.failed[test.trials], np.inf, values))


def _sessions(record: Record, test: CeilingTest) -> int:
    """Return over how many sessions trials are spread, by the pauses between them."""
    pause = record.head.timed_run.options.get("apart_s")
    if not isinstance(pause, int | float) or not pause > 0 or not test.trials.size:
        return 1
    starts = np.sort(record.trials.started_s[test.trials])
    return 1 + int(np.count_nonzero(np.diff(starts) >= _OF_A_PAUSE * float(pause)))
