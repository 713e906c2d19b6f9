"""Both distributions of a row: one dot per trial, the reference above, the candidate below."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.units import quantity_text
from bystander.verdicts import Decision, Row, Single

__all__ = ["Strip", "strip"]

_WIDTH, _LANE, _EDGE, _MOST = 420, 22, 8, 400
_LOG_BEYOND = 4.0


@dataclass(frozen=True)
class Strip:
    """The picture, in pixels: dots (x, y) and median (x) of each lane, and the ends of the axis."""

    width: int
    height: int
    lane: int
    reference: tuple[tuple[float, float], ...]
    candidate: tuple[tuple[float, float], ...]
    reference_median: float | None
    candidate_median: float | None
    least: str
    most: str
    log: bool


def strip(decision: Decision, row: Row) -> Strip | None:
    """Return the picture of one row, or None when neither arm has a good trial, or before the first look."""
    if not row.looked_at:
        return None
    found = {s.arm: s for s in decision.singles if s.workload == row.workload and s.measure == row.measure}
    reference, candidate = found.get(row.against), found.get(row.arm)
    values = [s.values if s else np.empty(0) for s in (reference, candidate)]
    both = np.concatenate(values)
    if not both.size:
        return None
    low, high = float(both.min()), float(both.max())
    # One slow trial must not press all others into a point, nor be left out.
    log = low > 0 and high > _LOG_BEYOND * low
    first, last = (math.log(low), math.log(high)) if log else (low, high)
    reach = (last - first) or 1.0

    def place(value: float) -> float:
        at = math.log(value) if log else value
        return round(_EDGE + (at - first) / reach * (_WIDTH - 2 * _EDGE), 1)

    def median(single: Single | None) -> float | None:
        return place(single.summary.median) if single and single.summary else None

    lanes = [_dots(v, place, top) for v, top in zip(values, (0, _LANE), strict=True)]
    unit = row.measure.unit
    return Strip(
        _WIDTH, 2 * _LANE, _LANE, lanes[0], lanes[1], median(reference), median(candidate),
        quantity_text(low, unit), quantity_text(high, unit), log,
    )  # fmt: skip


def _dots(values: NDArray[np.float64], place: Callable[[float], float], top: int) -> tuple[tuple[float, float], ...]:
    """Return dots, spread over the lane so that equal readings stay apart; evenly thinned beyond 400."""
    ordered = np.sort(values)
    if ordered.size > _MOST:
        ordered = ordered[np.linspace(0, ordered.size - 1, _MOST).astype(int)]
    # Steps of the golden ratio fill a lane evenly and need no chance.
    return tuple(
        (place(v), round(top + 5 + (i * 0.618034 % 1) * (_LANE - 10), 1)) for i, v in enumerate(ordered.tolist())
    )
