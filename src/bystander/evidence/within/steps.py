"""Of each node of a tree of paths: who called the place that is asked about, what it called, and at which line."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from numpy.typing import NDArray

__all__ = ["ITSELF", "NOBODY", "OUTSIDE", "called_from", "calling", "lines_within"]

Whole = NDArray[np.int64]
OUTSIDE, ITSELF, NOBODY = -1, -2, -3  # besides numbers of places


def called_from(parent: Whole, number: Whole, wanted: Collection[int]) -> Whole:
    """Return for each node the caller of the outermost wanted place around it; `NOBODY` where nothing is around that.

    The parts are disjoint, and sum to the whole of the wanted places: recursion counts once.
    """
    found = [OUTSIDE] * parent.size
    numbers = number.tolist()
    for node, above in enumerate(parent.tolist()):
        if above >= 0 and found[above] != OUTSIDE:
            found[node] = found[above]
        elif numbers[node] in wanted:
            found[node] = numbers[above] if above >= 0 else NOBODY
    return np.array(found, dtype=np.int64)


def calling(parent: Whole, number: Whole, wanted: Collection[int]) -> Whole:
    """Return for each node what the innermost wanted place around it called there; `ITSELF` for its own time.

    The parts are disjoint, and sum to the whole of the wanted places.
    """
    found = [OUTSIDE] * parent.size
    numbers = number.tolist()
    for node, above in enumerate(parent.tolist()):
        if numbers[node] in wanted:
            found[node] = ITSELF
        elif above >= 0 and found[above] != OUTSIDE:
            found[node] = numbers[node] if found[above] == ITSELF else found[above]
    return np.array(found, dtype=np.int64)


def lines_within(parent: Whole, number: Whole, line: Whole, wanted: Collection[int]) -> tuple[Whole, NDArray[np.bool_]]:
    """Return for each node the line of the innermost wanted place around it (-1 outside), and whether it is its own."""
    found, own = [-1] * parent.size, [False] * parent.size
    numbers, lines = number.tolist(), line.tolist()
    for node, above in enumerate(parent.tolist()):
        if numbers[node] in wanted:
            found[node], own[node] = lines[node], True
        elif above >= 0:
            found[node] = found[above]
    return np.array(found, dtype=np.int64), np.array(own, dtype=bool)
