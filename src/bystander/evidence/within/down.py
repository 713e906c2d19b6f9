"""The way down to where time is spent by itself, and the seconds of a place by its lines."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from bystander.design import Place, Step
from bystander.evidence.places import Sums, groups_of
from bystander.evidence.trees import levels_of
from bystander.evidence.within.steps import lines_within

__all__ = ["seconds_by_line", "way_down"]

_MOST_STEPS = 60


def way_down(sums: Sums) -> tuple[tuple[Step, ...], float, float]:
    """Return the steps from the outermost place to where most is spent, what the last takes alone, and the total.

    Each step is the longest part of the one before, lines taken together; it ends where a place takes more alone than
    in any place that it calls. Imports, the harness and the interpreter's start are passed over.
    """
    parent, place, _ = sums.tree.columns()
    levels = levels_of(parent)
    group, shown = groups_of(sums.tree, parent, place, levels)
    whole = np.where(group < 0, sums.spent, 0).astype(np.float64) / (1e9 * max(1, sums.trials))
    alone, total = whole.copy(), float(whole.sum())
    for nodes in reversed(levels):
        inner = nodes[parent[nodes] >= 0]
        np.add.at(whole, parent[inner], whole[inner])
    children: dict[int, list[int]] = {}
    for node, above in enumerate(parent.tolist()):
        children.setdefault(above, []).append(node)
    steps: list[Step] = []
    here, own = [-1], 0.0
    while len(steps) < _MOST_STEPS:
        below: dict[int, list[int]] = {}
        for node in (one for at in here for one in children.get(at, [])):
            below.setdefault(int(place[node]), []).append(node)
        longest = max(below, key=lambda one: float(whole[below[one]].sum()), default=-1)
        seconds = float(whole[below[longest]].sum()) if longest >= 0 else 0.0
        if seconds <= own or seconds <= 0:
            break
        here = below[longest]
        if bool(shown[here].any()):
            steps.append(Step(sums.tree.places[longest], seconds))
            own = float(alone[here].sum())
    return tuple(steps), own, total


def seconds_by_line(sums: Sums, wanted: Collection[Place]) -> tuple[float, dict[int, tuple[float, float]]]:
    """Return the whole of a place, and of each of its lines the seconds with what it calls there, and without."""
    parent, place, line = sums.tree.columns()
    numbers = {at for at, one in enumerate(sums.tree.places) if one in wanted}
    at, own = lines_within(parent, place, line, numbers)
    each = 1e9 * max(1, sums.trials)
    found: dict[int, tuple[float, float]] = {}
    inside = at >= 0
    for number, mine, ns in zip(at[inside].tolist(), own[inside].tolist(), sums.spent[inside].tolist(), strict=True):
        whole, alone = found.get(number, (0.0, 0.0))
        found[number] = whole + ns / each, alone + (ns / each if mine else 0.0)
    return float(sums.spent[inside].sum()) / each, {line: found[line] for line in sorted(found) if found[line][0]}
