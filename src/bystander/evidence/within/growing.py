"""From trials of several sizes to how each place grows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Counts, Grown, Place, Stacks
from bystander.evidence.places import calls_of, groups_of, sums_of
from bystander.evidence.trees import inside_itself, levels_of
from bystander.stats import Growth, block_exponents, count_exponent, exponent_of, flipped

__all__ = ["grown"]

Floats = NDArray[np.float64]
_FEWEST = 3  # sizes, of which an exponent is told
_SMALL = 0.01  # of the largest trial: a smaller place is left out
_WHOLE = Place("whole", "")


def grown(
    sizes: Sequence[float], trials: Sequence[Sequence[Stacks]], counts: Sequence[Sequence[Counts]], view: str,
    risk: float, each: Sequence[int] | None = None,
) -> tuple[Grown, tuple[Grown, ...]]:  # fmt: skip
    """Return how the whole grows, and each place that weighs anything at the largest size.

    Parameters
    ----------
    sizes : sequence of float
        In rising order, shape (m,).
    trials : sequence of sequence of Stacks
        At each size, one of each block.
    counts : sequence of sequence of Counts
        At each size; those that do not repeat say nothing.
    each : sequence of int, optional
        How often a trial of each size does it, as those of a callable do: told is one, without what starts it.
    risk : float
        Of an interval; and of any place that is called faster than the rest, wrongly (Westfall and Young 1993).
    """
    at = np.array(sizes, dtype=np.float64)
    seconds, total = _seconds(trials, view, each)
    calls = _calls(counts, each or [1] * len(sizes))
    whole = _one(_WHOLE, at, total, None, risk)
    least = _SMALL * float(total[-1].mean())
    places = [place for place, values in seconds.items() if float(values[-1].mean()) >= least]
    told = [_one(place, at, seconds[place], calls.get(place) if calls else None, risk) for place in places]
    faster = _faster(at, [seconds[place] for place in places], total, risk)
    found = [replace(one, faster=quick) for one, quick in zip(told, faster, strict=True)]
    found.sort(key=lambda one: (not one.faster, -one.seconds[-1]))
    return whole, tuple(found)


def _seconds(
    trials: Sequence[Sequence[Stacks]], view: str, each: Sequence[int] | None
) -> tuple[dict[Place, Floats], Floats]:
    """Return seconds of each place, shape (m, n), and those of the whole: of a callable without what starts it."""
    m, n = len(trials), min(map(len, trials))
    found: dict[Place, Floats] = {}
    total = np.zeros((m, n))
    for size, mine in enumerate(trials):
        for block, trial in enumerate(mine[:n]):
            sums = sums_of([trial], view)
            parent, place, _ = sums.tree.columns()
            levels = levels_of(parent)
            group, shown = groups_of(sums.tree, parent, place, levels)
            whole = np.where(group < 0, sums.spent, 0) / 1e9 / (each[size] if each else 1)
            total[size, block] = float(whole.sum()) if each else float(sums.spent.sum()) / 1e9
            for nodes in reversed(levels):
                inner = nodes[parent[nodes] >= 0]
                np.add.at(whole, parent[inner], whole[inner])
            outermost = np.flatnonzero(shown & ~inside_itself(parent, place))
            for number, value in zip(place[outermost].tolist(), whole[outermost].tolist(), strict=True):
                one = sums.tree.places[number]
                found.setdefault(one, np.zeros((m, n)))[size, block] += value
    return found, total


def _calls(counts: Sequence[Sequence[Counts]], each: Sequence[int]) -> Mapping[Place, list[int]] | None:
    """Return the calls of each place at each size; None where they were not counted, nothing of what did not repeat."""
    if not counts or not all(counts):
        return None
    tables = [[calls_of(one) for one in mine] for mine in counts]
    found = {}
    for place in set().union(*(mine[0] for mine in tables)):
        told = [{one.get(place, (0, 0, 0))[0] for one in mine} for mine in tables]
        if all(len(numbers) == 1 for numbers in told):
            found[place] = [round(numbers.pop() / times) for numbers, times in zip(told, each, strict=True)]
    return found


def _since(values: Floats) -> int:
    """Return the size from which on a place took time in every block; beyond the last three sizes it is not known."""
    seen = (values > 0).all(axis=1)
    gaps = np.flatnonzero(~seen)
    return int(gaps[-1]) + 1 if gaps.size else 0


def _one(place: Place, sizes: Floats, values: Floats, calls: Sequence[int] | None, risk: float) -> Grown:
    since = _since(values)
    known = sizes.size - since >= _FEWEST
    by_time = exponent_of(block_exponents(sizes[since:], values[since:]), risk) if known else None
    by_calls = count_exponent(sizes, np.array(calls, dtype=np.float64)) if calls and min(calls) > 0 else None
    return Grown(
        place, tuple(values.mean(axis=1).tolist()), _three(by_time), None if calls is None else tuple(calls),
        _three(by_calls), since=since if known else 0,
    )  # fmt: skip


def _three(one: Growth | None) -> tuple[float, float, float] | None:
    return None if one is None else (one.exponent, one.low, one.high)


def _faster(sizes: Floats, values: Sequence[Floats], total: Floats, risk: float) -> list[bool]:
    """Tell which places are shown to grow faster than what is left of the program without them."""
    found = [False] * len(values)
    differences, rows = [], []
    for at, one in enumerate(values):
        since = max(_since(one), _since(total - one))
        if sizes.size - since >= _FEWEST:
            pair = [block_exponents(sizes[since:], which[since:]) for which in (one, total - one)]
            differences.append(pair[0] - pair[1])
            rows.append(at)
    if rows:
        tested = flipped(np.stack(differences), risk)
        for i, at in enumerate(rows):
            found[at] = bool(tested.shown[i] and tested.mean[i] > 0)
    return found
