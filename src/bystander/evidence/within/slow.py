"""In which places slow trials differ from typical ones."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from bystander.design import GROUPS, WAITS, Change, Place, SlowPlace, Stacks
from bystander.evidence.places import ALL_GROUPS, groups_of, sums_of
from bystander.evidence.trees import levels_of
from bystander.evidence.within.narrowed import Narrowing, is_library, narrowed_stacks
from bystander.stats import regrouped

__all__ = ["slow_places"]

_SMALL = 0.005  # of the typical or slow trial: a smaller part is taken together with others
_SMALLER = Place("smaller", "places")
Floats = NDArray[np.float64]
Flags = NDArray[np.bool_]


def slow_places(
    trials: Sequence[Stacks], slow: Flags, view: str, risk: float, seed: int
) -> tuple[Change, tuple[SlowPlace, ...], dict[str, tuple[float, float]]]:
    """Return the whole, its parts, and waits: in typical trials, then in slow ones.

    Parts are places of the program, each alone with the libraries that it calls, and groups. A trial is the unit.

    Parameters
    ----------
    slow : array of bool, shape (n,)
        Which trials are slow.
    risk : float
        Of any part that is called different wrongly.
    seed : int
        Of the regroupings that are drawn.
    """
    parts: dict[Place, Floats] = {}
    waits: dict[str, Floats] = {}
    folded = Narrowing(folded=is_library)
    for at, trial in enumerate(trials):
        sums = sums_of([narrowed_stacks(trial, folded)], view)
        parent, place, _ = sums.tree.columns()
        group, _ = groups_of(sums.tree, parent, place, levels_of(parent))
        for number, kind, ns in zip(place.tolist(), group.tolist(), sums.spent.tolist(), strict=True):
            one = Place(ALL_GROUPS[kind], GROUPS[ALL_GROUPS[kind]]) if kind >= 0 else sums.tree.places[number]
            parts.setdefault(one, np.zeros(len(trials)))[at] += ns / 1e9
        for word, ns in zip(WAITS, sums.waited.sum(axis=0).tolist(), strict=True):
            if ns:
                waits.setdefault(word, np.zeros(len(trials)))[at] += ns / 1e9
    total = np.sum(list(parts.values()), axis=0) if parts else np.zeros(len(trials))
    large = {one: values for one, values in parts.items() if _weighs(values, total, slow)}
    rest = total - np.sum(list(large.values()), axis=0) if large else total
    rows = {**large, **({_SMALLER: rest} if len(large) < len(parts) else {})}
    found = _tested(rows, slow, risk, seed)
    (whole,) = _tested({_SMALLER: total}, slow, risk, seed)
    means = {word: (float(v[~slow].mean()), float(v[slow].mean())) for word, v in waits.items()} if slow.any() else {}
    return whole.seconds, tuple(found), means


def _weighs(values: Floats, total: Floats, slow: Flags) -> bool:
    return any(
        bool(mine.any()) and float(values[mine].mean()) >= _SMALL * float(total[mine].mean()) for mine in (slow, ~slow)
    )


def _tested(rows: dict[Place, Floats], slow: Flags, risk: float, seed: int) -> list[SlowPlace]:
    values = np.array(list(rows.values())) if rows else np.zeros((0, slow.size))
    tested = regrouped(values, slow, risk, seed)
    found = []
    for at, one in enumerate(rows):
        typical, slower = (float(values[at][mine].mean()) if mine.any() else 0.0 for mine in (~slow, slow))
        change = Change(typical, slower, slower - typical, float(tested.low[at]), float(tested.high[at]))
        found.append(SlowPlace(one, change, float(tested.p[at])))
    return sorted(found, key=lambda one: -abs(one.seconds.change_s))
