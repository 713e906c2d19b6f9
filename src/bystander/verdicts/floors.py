"""Readings at a floor: the instrument cannot see lower, so they say only "at most so much"."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Trials

__all__ = ["at_floor"]

_NEAR = 1.02  # the kernel counts pages per processor and adds up now and then


def at_floor(
    trials: Trials, rows: NDArray[np.int64] | slice, measure: Measure, names: Sequence[str]
) -> NDArray[np.bool_]:
    """Return which of these trials read at the measure's floor, or within 2 % above it.

    Parameters
    ----------
    names : sequence of str
        The measures of the record, in the order of the columns.
    """
    if measure.floor is None or measure.floor not in names:
        return np.zeros(trials.status[rows].shape, dtype=bool)
    values = trials.readings[rows, names.index(measure.name)]
    floors = trials.readings[rows, names.index(measure.floor)]
    with np.errstate(invalid="ignore"):
        near: NDArray[np.bool_] = values <= floors * _NEAR
    return near
