"""What watching cost: pairs of a watched trial and one that was not, of one state."""

from __future__ import annotations

from typing import Any

import numpy as np

from bystander.design import UNWATCHED
from bystander.evidence.kinds import register_json_kind
from bystander.stats import estimates, interval, walsh_contrasts

__all__ = ["UNWATCHED_KIND", "watching_cost"]

_LEVEL = 0.95
_FEWEST = 6  # pairs for an interval at that level

Pairs = list[tuple[float, float]]


def _pairs_of(table: Any) -> Pairs:
    """Return pairs (watched, unwatched) in seconds; raise ValueError or TypeError when it is none."""
    pairs = [(float(watched), float(bare)) for watched, bare in table]
    if any(not 0 < one < float("inf") for pair in pairs for one in pair):
        raise ValueError("unwatched: a time is no positive number")
    return pairs


UNWATCHED_KIND = register_json_kind(UNWATCHED, 1, lambda pairs: [list(one) for one in pairs], _pairs_of)


def watching_cost(pairs: Pairs) -> tuple[float, tuple[float, float] | None]:
    """Return watched over unwatched time, and its interval where there are pairs enough: the pseudo-median of pairs."""
    ratios = np.log([watched / bare for watched, bare in pairs])[None, :]
    contrasts = walsh_contrasts(ratios, ratios)
    middle = float(np.exp(estimates(contrasts)[0]))
    if len(pairs) < _FEWEST:
        return middle, None
    low, high = interval(contrasts, np.array([1 - _LEVEL]))
    return middle, (float(np.exp(low[0])), float(np.exp(high[0])))
