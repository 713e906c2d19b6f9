"""Seconds of each place in each block, under one arm: alone, with what it calls, and as a part of the whole."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import Place, Stacks
from bystander.evidence.compared.matching import Matching
from bystander.evidence.places import ALL_GROUPS, groups_of
from bystander.evidence.trees import Tree, Whole, inside_itself, levels_of

__all__ = ["ELSEWHERE", "Side", "side_of"]

ELSEWHERE = Place("elsewhere", "in no place of the program")
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Side:
    """One arm: k places by the numbers of a matching, n blocks; seconds.

    Attributes
    ----------
    whole, alone : array, shape (k, n)
    part : array, shape (k, n)
        Disjoint: each moment belongs to the innermost place of the program that it lies in. Sums to `total`.
    waited : array, shape (k, n)
        Of `part`, waiting.
    total : array, shape (n,)
    depth : array of int, shape (k,)
        How far inside a place is found, at least.
    tree : Tree
    number, owner, line : array of int
        Of each node of the tree: its place, the place whose part it is, and the line of that one.
    spent : array
        Seconds of each node by block.
    """

    whole: Floats
    alone: Floats
    part: Floats
    waited: Floats
    total: Floats
    depth: Whole
    tree: Tree
    number: Whole
    owner: Whole
    line: Whole
    spent: Floats

    def by_line(self, place: int) -> dict[int, float]:
        """Return the seconds a trial of a part by the place's own lines."""
        found: dict[int, float] = {}
        mine = np.flatnonzero(self.owner == place)
        for line, seconds in zip(self.line[mine].tolist(), self.spent[mine].mean(axis=1).tolist(), strict=True):
            found[line] = found.get(line, 0.0) + seconds
        return found

    def above(self, places: set[int], share: float = 0.95) -> set[int]:
        """Return what lies around the time of some parts, themselves included: around so much of it, at least."""
        weight: dict[int, float] = {}
        mine = np.flatnonzero(np.isin(self.owner, list(places)))
        sums = self.spent[mine].sum(axis=1)
        for node, seconds in zip(mine.tolist(), sums.tolist(), strict=True):
            seen = set()
            while node >= 0:
                seen.add(int(self.number[node]))
                node = self.tree.parent[node]
            for one in seen:
                weight[one] = weight.get(one, 0.0) + seconds
        return {one for one, seconds in weight.items() if seconds >= share * sums.sum() > 0} | places

    def children(self) -> set[tuple[int, int]]:
        """Return which place calls which, as far as it was seen."""
        parent = np.array(self.tree.parent)
        inner = parent >= 0
        return set(zip(self.number[parent[inner]].tolist(), self.number[inner].tolist(), strict=True))


def side_of(
    trials: Sequence[Stacks], units: Sequence[int], view: str, matching: Matching, side: int, rooted: bool
) -> Side:
    """Return the seconds of one arm.

    Parameters
    ----------
    trials : sequence of Stacks
    units : sequence of int
        The block of each trial, from 0 on; those of one block are averaged.
    view : str
        One of `VIEWS`.
    side : int
        0 for the reference, 1 for the candidate.
    rooted : bool
        Leave out what is no part of a callable: the harness, imports, the interpreter's start.
    """
    tree = Tree()
    joined = [tree.joined(one.places, one.parent, one.place, one.line) for one in trials]
    nodes, n = len(tree.parent), max(units, default=-1) + 1
    spent, waited = np.zeros((nodes, n)), np.zeros((nodes, n))
    for block, one, to in zip(units, trials, joined, strict=True):
        _add(one, to, view, spent[:, block], waited[:, block])
    each = np.maximum(1, np.bincount(np.array(units, dtype=np.int64), minlength=n))
    spent, waited = spent / each, waited / each
    parent, place, _ = tree.columns()
    levels = levels_of(parent)
    group, _ = groups_of(tree, parent, place, levels)
    if rooted:
        spent[group >= 0] = waited[group >= 0] = 0.0
    number_of = np.array([matching.number(side, one) for one in tree.places], dtype=np.int64)
    elsewhere = matching.number(side, ELSEWHERE)
    in_group = [matching.number(side, Place(kind, kind)) for kind in ALL_GROUPS]
    number = number_of[place] if nodes else np.zeros(0, dtype=np.int64)
    home = np.array([matching.is_home(k) for k in range(len(matching))])
    owner, line = _owners(tree, number, group, levels, home, elsewhere, in_group)
    k = len(matching)
    whole_of = spent.copy()
    whole_of[group >= 0] = 0.0
    for at in reversed(levels):
        inner = at[parent[at] >= 0]
        np.add.at(whole_of, parent[inner], whole_of[inner])
    outermost = ~inside_itself(parent, number) & (group < 0)
    depth = np.full(k, len(levels))
    for level, at in enumerate(levels):
        depth[number[at]] = np.minimum(depth[number[at]], level)
    whole = _summed(number[outermost], whole_of[outermost], k, n)
    alone = _summed(number[group < 0], spent[group < 0], k, n)
    for kind, taken in enumerate(in_group):
        alone[taken] = whole[taken] = spent[group == kind].sum(axis=0)
    part, part_waited = _summed(owner, spent, k, n), _summed(owner, waited, k, n)
    return Side(whole, alone, part, part_waited, spent.sum(axis=0), depth, tree, number, owner, line, spent)


def _summed(number: Whole, values: Floats, places: int, blocks: int) -> Floats:
    """Return sums by place, for each block."""
    columns = [np.bincount(number, values[:, block], places) for block in range(blocks)]
    return np.stack(columns, axis=1) if columns else np.zeros((places, 0))


def _add(one: Stacks, to: Whole, view: str, spent: Floats, waited: Floats) -> None:
    """Add a trial's seconds to those of its nodes."""
    if view == "elapsed":
        nodes, seconds, waits = to[one.elapsed_node], one.elapsed_ns / 1e9, one.elapsed_wait >= 0
    elif view == "processor":
        nodes, seconds, waits = to[one.node], one.processor_ns / 1e9, np.zeros(one.node.size, dtype=bool)
    else:
        nodes, seconds, waits = to[one.node], (one.waiting_ns + one.queued_ns) / 1e9, np.ones(one.node.size, dtype=bool)
    spent += np.bincount(nodes, seconds, spent.size)
    waited += np.bincount(nodes[waits], seconds[waits], spent.size)


def _owners(
    tree: Tree, number: Whole, group: Whole, levels: list[Whole], home: NDArray[np.bool_], elsewhere: int,
    in_group: Sequence[int],
) -> tuple[Whole, Whole]:  # fmt: skip
    """Return for each node the innermost place of the program that it lies in, and at which line of that."""
    parent, _, line_of = tree.columns()
    owner, line = np.full(parent.size, elsewhere), np.zeros(parent.size, dtype=np.int64)
    kinds = np.array(in_group)
    for at in levels:
        above = parent[at]
        owner[at] = np.where(above >= 0, owner[np.maximum(above, 0)], elsewhere)
        line[at] = np.where(above >= 0, line[np.maximum(above, 0)], 0)
        mine = at[home[number[at]]]
        owner[mine], line[mine] = number[mine], line_of[mine]
    owner[group >= 0] = kinds[group[group >= 0]]
    return owner, line
