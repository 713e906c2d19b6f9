"""Intervals on a time axis: which lies inside which, how much they cover, and what is left without those inside."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["alone", "covered", "enclosing", "in_circles", "outermost_of_name"]

Integers = NDArray[np.int64]
Flags = NDArray[np.bool_]
_LEVELS = 64  # of intervals in one another, beyond which they are walked one by one


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


def in_circles(around: Integers) -> Flags:
    """Return which intervals lie in one another in a circle, or in one that does: no real ones do."""
    reached = around
    for _ in range(int(around.size).bit_length()):  # each step goes twice as far as the one before
        reached = np.where(reached >= 0, reached[np.maximum(reached, 0)], -1)
    return reached >= 0


def outermost_of_name(name: Integers, around: Integers) -> Flags:
    """Return which intervals lie in none of the same name, so that recursion is counted once.

    Parameters
    ----------
    name : ndarray of int, shape (n,)
        Whole numbers from 0.
    around : ndarray of int, shape (n,)
        The one around each, -1 for none. Intervals that lie in one another in a circle lie in none of their name.
    """
    outermost = np.ones(name.size, dtype=bool)
    above = around.copy()
    for _ in range(_LEVELS):
        inside = np.flatnonzero(above >= 0)
        if not inside.size:
            return outermost
        outermost[inside] &= name[above[inside]] != name[inside]
        above[inside] = around[above[inside]]
    return _outermost_of_deep(name, around)


def _outermost_of_deep(name: Integers, around: Integers) -> Flags:
    """Return the same in one walk from the outermost inwards: a level at a time would be quadratic in the depth."""
    order = np.argsort(around, kind="stable")
    first = np.searchsorted(around[order], np.arange(-1, name.size)).tolist()
    children, names = order.tolist(), name.tolist()
    outermost = [True] * len(names)
    open_names: dict[int, int] = {}
    waiting = [~one for one in children[first[0] : first[1]]]  # a number is left, its complement is entered
    while waiting:
        one = waiting.pop()
        if one >= 0:
            open_names[names[one]] -= 1
            continue
        one = ~one
        outermost[one] = not open_names.get(names[one])
        open_names[names[one]] = open_names.get(names[one], 0) + 1
        waiting.append(one)
        waiting += [~child for child in children[first[one + 1] : first[one + 2] if one + 2 < len(first) else None]]
    return np.array(outermost, dtype=bool)
