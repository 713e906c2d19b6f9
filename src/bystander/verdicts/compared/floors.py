"""Readings at a floor: the instrument cannot see lower, so they say only "at most so much"."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record

__all__ = ["at_floor"]

_NEAR = 1.02  # the kernel counts pages per processor and adds up now and then


def at_floor(record: Record, rows: NDArray[np.int64] | slice, measure: Measure) -> NDArray[np.bool_]:
    """Return which of these trials of a record read at the measure's floor, or within 2 % above it."""
    if measure.floor is None or not record.reads(measure.floor):
        return np.zeros(record.trials.status[rows].shape, dtype=bool)
    with np.errstate(invalid="ignore"):
        near: NDArray[np.bool_] = record.column(measure.name)[rows] <= record.column(measure.floor)[rows] * _NEAR
    return near
