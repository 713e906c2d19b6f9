"""Who calls a place and what it calls: seconds of each, by paths that were seen, and exact calls."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from bystander.design import Change, Counts, Neighbour, Place
from bystander.evidence.compared.both import Both
from bystander.evidence.places import Sums, calls_of, is_ours
from bystander.evidence.within.steps import ITSELF, NOBODY, OUTSIDE, called_from, calling
from bystander.stats import flipped

__all__ = ["factor_of", "neighbours_of_both", "neighbours_of_one"]

_SMALL = 0.005  # of the whole in either arm: smaller parts are not tested
Floats = NDArray[np.float64]
Found = tuple[Change, tuple[Neighbour, ...]]


def neighbours_of_one(sums: Sums, counts: Sequence[Counts], wanted: Collection[Place], above: bool) -> Found:
    """Return the whole of some places in one state, and its callers, or what it calls, the longest first."""
    tree = sums.tree
    parent, place, _ = tree.columns()
    numbers = {at for at, one in enumerate(tree.places) if one in wanted}
    parts = (called_from if above else calling)(parent, place, numbers)
    inside = parts != OUTSIDE
    each = 1e9 * max(1, sums.trials)
    seconds: dict[int, float] = {}
    for key, ns in zip(parts[inside].tolist(), sums.spent[inside].tolist(), strict=True):
        seconds[key] = seconds.get(key, 0.0) + ns / each
    edges, outer = _calls_of(counts, wanted, above)
    found = []
    for key in {**seconds, **{tree.number(one): 0.0 for one in edges}}:
        other = tree.places[key] if key >= 0 else None
        calls = edges.get(other) if other and counts else None
        of = outer.get(other, 0) if above and other else sum(outer.get(one, 0) for one in wanted)
        per_call = calls / of if calls is not None and of else None
        spent = _alike(seconds.get(key, 0.0))
        if spent.before_s or calls:
            found.append(Neighbour(other, spent, calls, calls, per_call, per_call))
    found.sort(key=lambda one: (-one.seconds.after_s, -(one.calls_after or 0)))
    return _alike(float(sums.spent[inside].sum()) / each), tuple(found)


def _alike(seconds: float) -> Change:
    return Change(seconds, seconds, 0.0, -np.inf, np.inf)


def _calls_of(
    counts: Sequence[Counts], wanted: Collection[Place], above: bool
) -> tuple[dict[Place, int], Mapping[Place, int]]:
    """Return calls between some places and their neighbours, and how often each place is called, recursion apart."""
    if not counts:
        return {}, {}
    one, found = counts[0], dict[Place, int]()
    for edge in one.edges:
        if edge.caller < 0:
            continue
        caller, callee = one.places[edge.caller], one.places[edge.callee]
        mine, other = (callee, caller) if above else (caller, callee)
        if mine in wanted and other not in wanted and not is_ours(other):
            found[other] = found.get(other, 0) + edge.calls
    return found, {place: calls - inner for place, (calls, inner, _) in calls_of(one).items()}


def neighbours_of_both(both: Both, wanted: tuple[Collection[Place], Collection[Place]], above: bool) -> Found:
    """Return the same of both arms, the largest change first; intervals hold together for all rows that weigh anything.

    Parameters
    ----------
    wanted : pair of collection of Place
        As each arm has them.
    """
    matching = both.matching
    numbers = [{matching.number(side, place) for place in places} for side, places in enumerate(wanted)]
    either = numbers[0] | numbers[1]
    sides = [_seconds(one.tree.columns()[0], one.number, one.spent, either, above) for one in both.sides]
    keys = sorted(sides[0].keys() | sides[1].keys() | _called(both, either, above))
    nothing = np.zeros(both.blocks)
    pair = [
        np.stack([side.get(key, nothing) for key in keys]) if keys else np.zeros((0, both.blocks)) for side in sides
    ]
    before, after = pair[0], pair[1] * factor_of(both)
    large = np.maximum(before, after).mean(axis=1) >= _SMALL * max(before.sum(axis=0).mean(), after.sum(axis=0).mean())
    changes = [Change(float(a.mean()), float(b.mean()), float((b - a).mean()), -np.inf, np.inf)
               for a, b in zip(before, after, strict=True)]  # fmt: skip
    rows = np.flatnonzero(large).tolist()
    tested = flipped((after - before)[rows], both.asked.risk)
    for i, row in enumerate(rows):
        changes[row] = changes[row]._replace(low_s=float(tested.low[i]), high_s=float(tested.high[i]))
    found = [_neighbour(both, key, change, either, above) for key, change in zip(keys, changes, strict=True)]
    found.sort(key=lambda one: (-abs(one.seconds.change_s), -one.seconds.after_s))
    return both.change(before.sum(axis=0), after.sum(axis=0)), tuple(found)


def factor_of(both: Both) -> float:
    """Return what seconds of the candidate were multiplied by, where watching slowed it more."""
    raw = float(both.sides[1].total.sum())
    return float(both.total[1].sum()) / raw if raw else 1.0


def _seconds(
    parent: NDArray[np.int64], number: NDArray[np.int64], spent: Floats, wanted: Collection[int], above: bool
) -> dict[int, Floats]:
    """Return the seconds by block of each part."""
    parts = (called_from if above else calling)(parent, number, wanted)
    found: dict[int, Floats] = {}
    for key in np.unique(parts[parts != OUTSIDE]).tolist():
        found[key] = spent[parts == key].sum(axis=0)
    return found


def _called(both: Both, wanted: Collection[int], above: bool) -> set[int]:
    """Return neighbours by exact calls, which may take no time that was seen."""
    found = set()
    for calls in (both.calls.before, both.calls.after):
        for caller, callee in calls.edges:
            mine, other = (callee, caller) if above else (caller, callee)
            if mine in wanted and other not in wanted and other >= 0:
                found.add(other)
    return found


def _neighbour(both: Both, key: int, change: Change, wanted: Collection[int], above: bool) -> Neighbour:
    if key in (ITSELF, NOBODY):
        return Neighbour(None, change)
    calls: list[int | None] = [None, None]
    each: list[float | None] = [None, None]
    if both.calls.known:
        for at, one in enumerate((both.calls.before, both.calls.after)):
            pairs = [(key, mine) if above else (mine, key) for mine in wanted]
            number = sum(one.edges.get(pair, 0) for pair in pairs)
            outer = one.outer(key) if above else sum(one.outer(mine) for mine in wanted)
            calls[at], each[at] = number, number / outer if outer else None
    return Neighbour(both.matching.place(key), change, calls[0], calls[1], each[0], each[1])
