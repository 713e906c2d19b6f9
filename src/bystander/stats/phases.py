"""Intervals on a time axis: which lies inside which, how much they cover, and what is left without those inside."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["alone", "covered", "enclosing", "outermost_of_name"]

Integers = NDArray[np.int64]
Flags = NDArray[np.bool_]


def enclosing(begin: Integers, end: Integers, lane: Integers) -> Integers:
    """Return for each interval the innermost one around it on the same lane, -1 for none.

    Parameters
    ----------
    begin, end : ndarray of int, shape (n,)
        In one unit; end >= begin.
    lane : ndarray of int, shape (n,)
        Only intervals of one lane can lie in one another.

    Returns
    -------
    ndarray of int, shape (n,)
        Of two equal intervals the earlier one is around the later one. Intervals that overlap without lying in
        one another are side by side.
    """
    order = np.lexsort((np.arange(begin.size), -end, begin, lane))
    inner = np.full(begin.size, -1, dtype=np.int64)
    ends, lanes = end[order].tolist(), lane[order].tolist()
    parents = [-1] * len(ends)
    open_ones: list[int] = []
    here = None
    for i, (until, place) in enumerate(zip(ends, lanes, strict=True)):
        if place != here:
            open_ones, here = [], place
        while open_ones and ends[open_ones[-1]] < until:
            open_ones.pop()
        parents[i] = open_ones[-1] if open_ones else -1
        open_ones.append(i)
    found = np.array(parents, dtype=np.int64)
    inner[order] = np.where(found >= 0, order[np.maximum(found, 0)], -1)
    return inner


def covered(begin: Integers, end: Integers, group: Integers | None = None) -> Integers:
    """Return the length of the union of intervals, of all or of each group.

    Parameters
    ----------
    group : ndarray of int, shape (n,), optional
        Whole numbers from 0; without it all intervals are one group.

    Returns
    -------
    ndarray of int, shape (groups,)
    """
    group = np.zeros(begin.size, dtype=np.int64) if group is None else group
    if not begin.size:
        return np.zeros(1, dtype=np.int64)
    order = np.lexsort((begin, group))
    first, last, mine = begin[order], end[order], group[order]
    # One running maximum serves all groups: of ranks, which begin anew in each; the ends themselves would overflow.
    ends, rank = np.unique(last, return_inverse=True)
    until = ends[np.maximum.accumulate(mine * (ends.size + 1) + rank) - mine * (ends.size + 1)]
    first_of_group = np.concatenate([[True], mine[1:] != mine[:-1]])
    free_from = np.where(first_of_group, first, np.concatenate([first[:1], until[:-1]]))
    length = np.maximum(0, last - np.maximum(first, free_from))
    return np.bincount(mine, weights=length.astype(np.float64)).astype(np.int64)


def alone(begin: Integers, end: Integers, around: Integers) -> Integers:
    """Return each interval's length without what those directly inside it cover.

    Parameters
    ----------
    around : ndarray of int, shape (n,)
        The one around each, -1 for none; what sticks out of it is not taken off.
    """
    length = end - begin
    inside = np.flatnonzero(around >= 0)
    if not inside.size:
        return length
    outer = around[inside]
    low = np.maximum(begin[inside], begin[outer])
    high = np.maximum(low, np.minimum(end[inside], end[outer]))
    taken = covered(low, high, outer)
    left: Integers = length.copy()
    left[: taken.size] -= taken
    return left


def outermost_of_name(name: Integers, around: Integers) -> Flags:
    """Return which intervals lie in none of the same name, so that recursion is counted once.

    Parameters
    ----------
    name : ndarray of int, shape (n,)
        Whole numbers from 0.
    """
    outermost = np.ones(name.size, dtype=bool)
    above = around.copy()
    for _ in range(name.size):  # as deep as intervals lie in one another
        inside = np.flatnonzero(above >= 0)
        if not inside.size:
            break
        outermost[inside] &= name[above[inside]] != name[inside]
        above[inside] = around[above[inside]]
    return outermost
