"""Both distributions of a row: one dot per trial, the reference above, the candidate below."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.units import counted, quantity_text
from bystander.verdicts import Row, Single

__all__ = ["Strip", "lane_heights", "strip", "thinned"]

_WIDTH, _LANE, _EDGE, _MOST = 1000, 24, 12, 400
_LOG_BEYOND = 4.0


@dataclass(frozen=True)
class Strip:
    """The picture: dots as paths on a ground of `width` by twice `lane`, which is drawn as wide as there is room.

    Attributes
    ----------
    reference, candidate : str
        Paths of points of no length, one a trial.
    medians : tuple of (float or None)
        Of the reference and the candidate, on the ground.
    text : str
        The same in words.
    """

    width: int
    lane: int
    reference: str
    candidate: str
    medians: tuple[float | None, float | None]
    least: str
    most: str
    log: bool
    text: str


def strip(row: Row, singles: Mapping[str, Single]) -> Strip | None:
    """Return the picture of one row, or None when neither arm has a good trial, or before the first look.

    Parameters
    ----------
    singles : mapping
        By arm, of the row's workload and measure.
    """
    if not row.looked_at:
        return None
    sides = [singles.get(arm) for arm in (row.against, row.arm)]
    values = [one.values if one else np.empty(0) for one in sides]
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
        return round(_EDGE + (at - first) / reach * (_WIDTH - 2 * _EDGE))

    def median(single: Single | None) -> float | None:
        return place(single.summary.median) if single and single.summary else None

    unit = row.measure.unit
    lanes = [_dots(v, place, top) for v, top in zip(values, (0, _LANE), strict=True)]
    text = "; ".join(_told(name, one, unit) for name, one in zip((row.against, row.arm), sides, strict=True))
    return Strip(
        _WIDTH, _LANE, lanes[0], lanes[1], (median(sides[0]), median(sides[1])),
        quantity_text(low, unit), quantity_text(high, unit), log, text,
    )  # fmt: skip


def _told(name: str, single: Single | None, unit: str) -> str:
    if single is None or single.summary is None:
        return f"{name}: no trial that ended well"
    least, median, most = (quantity_text(v, unit) for v in (single.summary.least, single.summary.median,
                                                            single.summary.most))  # fmt: skip
    return f"{name}: {counted(single.values.size, 'trial')} from {least} to {most}, median {median}"


def thinned(values: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return values in order, evenly thinned beyond 400."""
    ordered: NDArray[np.float64] = np.sort(values)
    places = np.linspace(0, ordered.size - 1, min(_MOST, ordered.size)).astype(int)
    return ordered.take(places)


def lane_heights(count: int) -> NDArray[np.float64]:
    """Return heights within a lane from 0 to 1, so that equal readings stay apart."""
    # Steps of the golden ratio fill a lane evenly and need no chance.
    return np.arange(count, dtype=np.float64) * 0.618034 % 1


def _dots(values: NDArray[np.float64], place: Callable[[float], float], top: int) -> str:
    ordered = thinned(values)
    heights = (top + 5 + lane_heights(ordered.size) * (_LANE - 10)).round().astype(int)
    return "".join(f"M{place(v)} {y}h0" for v, y in zip(ordered.tolist(), heights.tolist(), strict=True))
