"""The account of a change: which places it lies in, with intervals that hold together, and what none explains."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from bystander.design import Account, Change, Cost, PlaceChange
from bystander.evidence.compared.both import Asked, Both, Seen
from bystander.evidence.compared.leads import Leads, ends
from bystander.evidence.compared.sides import ELSEWHERE
from bystander.evidence.unwatched import Pairs, watching_cost
from bystander.stats import flipped, subset_interval

__all__ = ["account"]

_MIDDLE, _RISK = 6, 0.05  # blocks from which on the cost of watching is compared, and at which risk
Floats = NDArray[np.float64]


def account(seen: Seen, asked: Asked) -> Account:
    """Return the account of a change, without the names of what was inspected.

    The unit is the block: seconds a trial of each place, paired. Families hold their error together by sign flips of
    blocks; parts of the account are disjoint.
    """
    if not seen.stacks[0]:
        nothing = Change(0.0, 0.0, 0.0, -math.inf, math.inf)
        return Account("", "", "", "", asked.view, 0, 1 - asked.risk, nothing, nothing, nothing, 0.0, roots=seen.roots)
    both = Both(seen, asked)
    more = _slowed_more(seen.bare)
    slowed = more.ratio if more and not 1 / (1 + asked.margin) <= more.nearest <= 1 + asked.margin else None
    if slowed is not None:
        both.scale(1 / both.middle_ratio())
    places = _places(both) if asked.places else []  # before the change of one is given to another
    found = Leads(both)
    rest = both.total[1] - both.total[0] - found.explained
    return Account(
        "", "", "", "", asked.view, both.blocks, 1 - asked.risk, both.change(*both.total),
        both.difference(found.explained), both.difference(rest), asked.margin * float(both.total[0].mean()),
        tuple(found.leads), tuple(places), found.smaller, seen.roots, slowed=slowed, slowed_more=more,
        cost=_costs(seen.bare),
        repeats=both.calls.repeats, subjects=seen.edits.subjects, packages=seen.edits.packages,
    )  # fmt: skip


def _costs(bare: tuple[Pairs, Pairs]) -> tuple[Cost | None, Cost | None]:
    before, after = (_cost(pairs) for pairs in bare)
    return before, after


def _cost(pairs: Pairs) -> Cost | None:
    if not pairs:
        return None
    ratio, between = watching_cost(pairs)
    return Cost(ratio, *(between or (0.0, math.inf)))


def _slowed_more(bare: tuple[Pairs, Pairs]) -> Cost | None:
    """Return how much more watching slowed the candidate than the reference, by pairs of one block."""
    n = min(len(pairs) for pairs in bare)
    if n < _MIDDLE:
        return None
    logs = [np.log([watched / alone for watched, alone in pairs[:n]]) for pairs in bare]
    more = logs[1] - logs[0]
    low, high = subset_interval(more, _RISK)
    return Cost(float(np.exp(more.mean())), math.exp(low), math.exp(high))


def _places(both: Both) -> list[PlaceChange]:
    """Return all places that are in either arm, with their calls; those that weigh something are tested."""
    alone, whole = _tested(both, both.alone), _tested(both, both.whole)
    found = []
    for k in range(both.size):
        n = both.calls.of(k)
        if not n and not both.whole[0][k].any() and not both.whole[1][k].any():
            continue
        place = both.matching.place(k)
        if place == ELSEWHERE:
            continue
        calls = (*(n or (None, None)), *both.calls.inner(k), int(both.depth[k]))
        found.append(PlaceChange(place, both.standing(k), whole[0][k], alone[0][k], whole[1][k], alone[1][k], *calls))
    return found


def _tested(both: Both, pair: tuple[Floats, Floats]) -> tuple[list[Change], list[float]]:
    """Return the change and the adjusted p of each place; small ones have no interval."""
    rows = np.flatnonzero(both.large(pair))
    tested = flipped(pair[1][rows] - pair[0][rows], both.asked.risk)
    at = {int(k): i for i, k in enumerate(rows.tolist())}
    means = [values.mean(axis=1).tolist() for values in pair]
    changes, p = [], []
    for k, (a, b) in enumerate(zip(*means, strict=True)):
        between = ends(tested, at[k]) if k in at else (b - a, -math.inf, math.inf)
        changes.append(Change(a, b, *between))
        p.append(float(tested.p[at[k]]) if k in at else math.nan)
    return changes, p
