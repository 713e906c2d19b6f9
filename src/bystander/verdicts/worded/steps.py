"""The axis of a ladder: logarithmic in the size of a change, so that a factor of seven and 2 % can both be read.

A plain logarithmic axis that reaches to a factor of seven has 2 % on a hundredth of it. This one places a ratio r at
asinh(log(r) / log(1.01)): within about 1 % it is linear, beyond it each doubling of the logarithm takes the same room,
to both sides of no change alike.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

__all__ = ["StepAxis", "step_axis"]

_LINEAR = math.log(1.01)
_TICKS = (1.01, 1.02, 1.05, 1.1, 1.2, 1.5, 2.0, 4.0, 8.0, 20.0, 100.0, 1e4, 1e8)
_LEAST, _FARTHEST = 1.05, 1e9


@dataclass(frozen=True)
class StepAxis:
    """Ratios from 1 / reach to reach, "no change" in the middle."""

    reach: float

    def place(self, ratio: float) -> float:
        """Return where a ratio stands, from 0 to 1; what lies beyond stands at the end."""
        if math.isnan(ratio):
            return math.nan
        at = -math.inf if ratio <= 0 else math.log(ratio) if ratio < math.inf else math.inf
        most = math.asinh(math.log(self.reach) / _LINEAR)
        return 0.5 + 0.5 * max(-1.0, min(1.0, math.asinh(at / _LINEAR) / most))

    def ticks(self, most: int) -> list[float]:
        """Return at most so many ratios to label, the smallest first: no change, both ends, and some between them."""
        inside = [tick for tick in _TICKS if tick <= self.reach * 1.001]
        apart, found = 1 / most, inside[-1:]
        while len(found) < (most - 1) // 2:
            ends = [0.5, *sorted(map(self.place, found))]
            rooms = {tick: min(abs(self.place(tick) - end) for end in ends) for tick in inside}
            widest = max(rooms, key=lambda tick: rooms[tick])
            if rooms[widest] < apart:
                break
            found.append(widest)
        return [*(1 / tick for tick in sorted(found, reverse=True)), 1.0, *sorted(found)]


def step_axis(ratios: Iterable[float]) -> StepAxis:
    """Return the axis on which all of these can be read; what is unbounded goes beyond it."""
    known = [max(r, 1 / r) for r in ratios if 1 / _FARTHEST < r < _FARTHEST]
    farthest = max([*known, _LEAST])
    return StepAxis(next((tick for tick in _TICKS if tick >= farthest), farthest))
