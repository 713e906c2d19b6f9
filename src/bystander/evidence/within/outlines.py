"""The outline of all paths that were seen, and the flow between places: of one state, or of both arms of a change."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import Branch, Change, Counts, FlowPlace, Place, Ribbon
from bystander.evidence.compared.both import Both
from bystander.evidence.places import ALL_GROUPS, Sums, groups_of
from bystander.evidence.trees import Whole, inside_itself, levels_of
from bystander.evidence.within.neighbours import factor_of
from bystander.stats import flipped

__all__ = ["Branches", "Flowing", "flow_of_both", "flow_of_one", "outline_of_both", "outline_of_one"]

_SMALL = 0.005  # of the whole in either arm: smaller branches are taken together
_FLOWS = 0.01  # of the whole: a smaller place is none of the flow
Floats = NDArray[np.float64]
_PlaceOf = Callable[[int], Place]
_Called = Callable[[int, int], tuple[int | None, int | None]]


@dataclass(frozen=True)
class Branches:
    """The whole, the branches in order, and how many small places lie in none, with their seconds."""

    whole: Change
    branches: tuple[Branch, ...]
    smaller: int
    smaller_s: tuple[float, float]


@dataclass(frozen=True)
class Flowing:
    """Places, what flows between them, and how many places are left out."""

    places: tuple[FlowPlace, ...]
    ribbons: tuple[Ribbon, ...]
    left_out: int


@dataclass(frozen=True)
class _Arm:
    """One arm: of each node its parent, its place's number and its seconds by block; and its group, whether shown."""

    parent: Whole
    number: Whole
    spent: Floats
    group: Whole
    shown: NDArray[np.bool_]
    levels: list[Whole]


class _Merged:
    """A tree of places, lines taken together: a place that called itself, however far above, is one branch."""

    def __init__(self) -> None:
        self.parent: list[int] = []
        self.number: list[int] = []
        self.depth: list[int] = []
        self._known: dict[tuple[int, int], int] = {}
        self._around: list[Mapping[int, int]] = []

    def at(self, above: int, number: int) -> int:
        """Return the branch of a place below another one."""
        around = self._around[above] if above >= 0 else {}
        if number in around:
            return around[number]
        found = self._known.get((above, number))
        if found is None:
            found = self._known[above, number] = len(self.parent)
            self.parent.append(above)
            self.number.append(number)
            self.depth.append(self.depth[above] + 1 if above >= 0 else 0)
            self._around.append({**around, number: found})
        return found

    def taken_in(self, arm: _Arm, groups: Sequence[int]) -> Whole:
        """Return the branch of each node of an arm, -1 for what hangs under none; nothing hangs under a group."""
        to: list[int] = []
        below: list[int] = []
        for above, number, group, shown in zip(
            arm.parent.tolist(), arm.number.tolist(), arm.group.tolist(), arm.shown.tolist(), strict=True
        ):
            outer = below[above] if above >= 0 else -1
            if group >= 0:
                to.append(self.at(-1, groups[group]))
                below.append(outer)
            else:
                to.append(self.at(outer, number) if shown else outer)
                below.append(to[-1])
        return np.array(to, dtype=np.int64)


def outline_of_one(sums: Sums) -> Branches:
    """Return the outline of one state, the longest branches first."""
    tree = sums.tree
    groups = [tree.number(Place(kind, kind)) for kind in ALL_GROUPS]
    arm = _arm_of_one(sums)
    merged = _Merged()
    to = merged.taken_in(arm, groups)
    spent = _sums_by(to, arm.spent, len(merged.parent))
    return _outline(merged, [spent, spent], tree.places.__getitem__, None)


def outline_of_both(both: Both) -> Branches:
    """Return the outline of both arms, the largest changes first; intervals of all branches hold together."""
    matching = both.matching
    groups = [matching.number(0, Place(kind, kind)) for kind in ALL_GROUPS]
    merged, arms = _Merged(), _arms_of(both)
    to = [merged.taken_in(arm, groups) for arm in arms]
    spent = [_sums_by(at, arm.spent, len(merged.parent)) for at, arm in zip(to, arms, strict=True)]
    return _outline(merged, spent, matching.place, both)


def _arm_of_one(sums: Sums) -> _Arm:
    parent, place, _ = sums.tree.columns()
    levels = levels_of(parent)
    group, shown = groups_of(sums.tree, parent, place, levels)
    return _Arm(parent, place, sums.spent[:, None] / (1e9 * max(1, sums.trials)), group, shown, levels)


def _arms_of(both: Both) -> list[_Arm]:
    factors = (1.0, factor_of(both))
    found = []
    for side, factor in zip(both.sides, factors, strict=True):
        parent, place, _ = side.tree.columns()
        levels = levels_of(parent)
        group, shown = groups_of(side.tree, parent, place, levels)
        found.append(_Arm(parent, side.number, side.spent * factor, group, shown, levels))
    return found


def _sums_by(to: Whole, spent: Floats, size: int) -> Floats:
    """Return the seconds of each branch by block, without those below it."""
    found = np.zeros((size, spent.shape[1]))
    np.add.at(found, to[to >= 0], spent[to >= 0])
    return found


def _outline(merged: _Merged, spent: Sequence[Floats], place_of: _PlaceOf, both: Both | None) -> Branches:
    alone, whole = spent, [one.copy() for one in spent]
    for node in range(len(merged.parent) - 1, -1, -1):
        above = merged.parent[node]
        if above >= 0:
            for one in whole:
                one[above] += one[node]
    means = [one.mean(axis=1) if one.shape[1] else np.zeros(one.shape[0]) for one in whole]
    total = [float(one.sum(axis=0).mean()) if one.shape[1] else 0.0 for one in alone]
    large = np.maximum(*means) >= _SMALL * max(*total, 1e-12)
    changes = _changes(whole, means, large, both)
    own = [one.mean(axis=1) if one.shape[1] else np.zeros(one.shape[0]) for one in alone]
    below: dict[int, list[int]] = {}
    for node, above in enumerate(merged.parent):
        below.setdefault(above, []).append(node)
    places = _places_below(merged)
    branches: list[Branch] = []

    def small(nodes: Sequence[int]) -> tuple[int, tuple[float, float]]:
        left = [node for node in nodes if not large[node]]
        names = set[int]().union(*(places[node] for node in left)) if left else set[int]()
        return len(names), (float(sum(means[0][left])), float(sum(means[1][left])))

    def add(nodes: Sequence[int], parent: int, depth: int) -> None:
        for node in sorted((one for one in nodes if large[one]), key=lambda one: _order(changes[one])):
            count, seconds = small(below.get(node, []))
            branches.append(
                Branch(
                    place_of(merged.number[node]), parent, depth, changes[node], float(own[0][node]),
                    float(own[1][node]), count, seconds,
                )
            )  # fmt: skip
            add(below.get(node, []), len(branches) - 1, depth + 1)

    add(below.get(-1, []), -1, 0)
    count, seconds = small(below.get(-1, []))
    sums = [one.sum(axis=0) for one in alone]
    every = both.change(*sums) if both else _alike(total[0])
    return Branches(every, tuple(branches), count, seconds)


def _places_below(merged: _Merged) -> list[set[int]]:
    """Return the places of each branch and all below it."""
    found = [{number} for number in merged.number]
    for node in range(len(merged.parent) - 1, -1, -1):
        if merged.parent[node] >= 0:
            found[merged.parent[node]] |= found[node]
    return found


def _changes(
    whole: Sequence[Floats], means: Sequence[Floats], large: NDArray[np.bool_], both: Both | None
) -> list[Change]:
    if both is None:
        return [_alike(seconds) for seconds in means[0].tolist()]
    rows = np.flatnonzero(large)
    tested = flipped((whole[1] - whole[0])[rows], both.asked.risk)
    found = [Change(a, b, b - a, -np.inf, np.inf) for a, b in zip(means[0].tolist(), means[1].tolist(), strict=True)]
    for at, row in enumerate(rows.tolist()):
        found[row] = found[row]._replace(low_s=float(tested.low[at]), high_s=float(tested.high[at]))
    return found


def _order(change: Change) -> tuple[float, float]:
    return -abs(change.change_s), -change.after_s


def _alike(seconds: float) -> Change:
    return Change(seconds, seconds, 0.0, -np.inf, np.inf)


def flow_of_one(sums: Sums, counts: Sequence[Counts], most: int) -> Flowing:
    """Return what flows between the places of one state; at most so many places."""
    arm = _arm_of_one(sums)
    places, edges = _flowing(arm)
    calls = _edges_of(counts[0]) if counts else None

    def called(caller: int, callee: int) -> tuple[int | None, int | None]:
        number = None if calls is None else calls.get((sums.tree.places[caller], sums.tree.places[callee]), 0)
        return number, number

    return _flow((places, places), (edges, edges), sums.tree.places.__getitem__, called, most)


def flow_of_both(both: Both, most: int) -> Flowing:
    """Return what flows between the places of both arms; at most so many places."""
    before, after = (_flowing(arm) for arm in _arms_of(both))

    def called(caller: int, callee: int) -> tuple[int | None, int | None]:
        if not both.calls.known:
            return None, None
        return both.calls.before.edges.get((caller, callee), 0), both.calls.after.edges.get((caller, callee), 0)

    return _flow((before[0], after[0]), (before[1], after[1]), both.matching.place, called, most)


def _edges_of(counts: Counts) -> dict[tuple[Place, Place], int]:
    found: dict[tuple[Place, Place], int] = {}
    for edge in counts.edges:
        if edge.caller >= 0:
            key = counts.places[edge.caller], counts.places[edge.callee]
            found[key] = found.get(key, 0) + edge.calls
    return found


def _flowing(arm: _Arm) -> tuple[dict[int, tuple[float, float]], dict[tuple[int, int], float]]:
    """Return whole and own seconds of each place, and the seconds from each to each: of its outermost instances."""
    spent = arm.spent.mean(axis=1) if arm.spent.shape[1] else np.zeros(arm.parent.size)
    whole = np.where(arm.group < 0, spent, 0.0)
    for at in reversed(arm.levels):
        inner = at[arm.parent[at] >= 0]
        np.add.at(whole, arm.parent[inner], whole[inner])
    outermost = arm.shown & ~inside_itself(arm.parent, arm.number)
    around = [-1] * arm.parent.size
    shown, numbers = arm.shown.tolist(), arm.number.tolist()
    for node, above in enumerate(arm.parent.tolist()):
        if above >= 0:
            around[node] = above if shown[above] else around[above]
    places: dict[int, tuple[float, float]] = {}
    edges: dict[tuple[int, int], float] = {}
    for node in np.flatnonzero(arm.shown).tolist():
        number = numbers[node]
        seconds, alone = places.get(number, (0.0, 0.0))
        mine = float(whole[node]) if outermost[node] else 0.0
        places[number] = seconds + mine, alone + float(spent[node])
        if mine and around[node] >= 0:
            key = numbers[around[node]], number
            edges[key] = edges.get(key, 0.0) + mine
    return places, edges


def _flow(
    sides: tuple[Mapping[int, tuple[float, float]], Mapping[int, tuple[float, float]]],
    edges: tuple[Mapping[tuple[int, int], float], Mapping[tuple[int, int], float]],
    place_of: _PlaceOf, called: _Called, most: int,
) -> Flowing:  # fmt: skip
    nothing = (0.0, 0.0)
    every = sorted({*sides[0], *sides[1]})
    longest = {k: max(sides[0].get(k, nothing)[0], sides[1].get(k, nothing)[0]) for k in every}
    least = _FLOWS * max(longest.values(), default=0.0)
    chosen = sorted((k for k in every if longest[k] >= least > 0), key=lambda k: -longest[k])[:most]
    at = {k: place for place, k in enumerate(chosen)}
    places = tuple(
        FlowPlace(
            place_of(k), sides[0].get(k, nothing)[0], sides[1].get(k, nothing)[0], sides[1].get(k, nothing)[1]
        )
        for k in chosen
    )  # fmt: skip
    ribbons = tuple(
        Ribbon(at[a], at[b], edges[0].get((a, b), 0.0), edges[1].get((a, b), 0.0), *called(a, b))
        for a, b in sorted({*edges[0], *edges[1]})
        if a in at and b in at and max(edges[0].get((a, b), 0.0), edges[1].get((a, b), 0.0)) >= least / 2
    )
    return Flowing(places, ribbons, len(every) - len(chosen))
