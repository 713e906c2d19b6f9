"""The shared axis of change on which all rows are drawn."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Protocol

from bystander.verdicts.types import Row
from bystander.verdicts.words import Scale

__all__ = ["Axis", "RatioAxis", "shared_axis"]

_TICKS = (1.01, 1.02, 1.05, 1.1, 1.2, 1.5, 2, 3, 5, 10, 20, 50, 100, 1000)
_WIDEST = 1000.0


class RatioAxis(Protocol):
    """An axis of ratios with no change in the middle, however they are spaced on it."""

    @property
    def reach(self) -> float:
        """The ratio at its right end; at its left end is one over it."""

    def place(self, ratio: float) -> float:
        """Return where a ratio lies, from 0 to 1."""

    def ticks(self, most: int) -> list[float]:
        """Return about so many ratios worth a label, symmetric about 1."""


@dataclass(frozen=True)
class Axis:
    """A logarithmic axis from 1/reach to reach, with no change in the middle."""

    reach: float

    def place(self, ratio: float) -> float:
        """Return where a ratio lies, from 0 (left end) to 1 (right end); beyond them it is clipped."""
        if ratio <= 0 or math.isnan(ratio):
            return 0.0
        if math.isinf(ratio):
            return 1.0
        share = 0.5 + 0.5 * math.log(ratio) / math.log(self.reach)
        return min(1.0, max(0.0, share))

    def ticks(self, most: int = 7) -> list[float]:
        """Return ratios worth a label, symmetric about 1, at most so many."""
        each_side = max(1, (most - 1) // 2)
        inside = [t for t in _TICKS if t <= self.reach * 1.0001]
        chosen = [t for t in inside if math.log(t) > 0.12 * math.log(self.reach)]
        while len(chosen) > each_side:
            gaps = [math.log(b / a) for a, b in zip([1.0, *chosen], chosen, strict=False)]
            chosen.pop(gaps.index(min(gaps)))
        return [1 / t for t in reversed(chosen)] + [1.0] + [float(t) for t in chosen]


def shared_axis(rows: Iterable[Row]) -> Axis:
    """Return an axis on which every estimate and every bounded interval of the ratio rows fits."""
    reach = 1.0
    for row in rows:
        if row.scale == Scale.RATIO:
            reach = max(reach, 1 + 1.5 * row.margin)
            for value in (row.low, row.high, row.estimate):
                if value > 0 and math.isfinite(value):
                    reach = max(reach, value, 1 / value)
    return Axis(min(max(reach * 1.05, 1.02), _WIDEST))
