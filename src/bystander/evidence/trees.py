"""Trees of paths: made, hung one under another, and joined."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from bystander.design import Place

__all__ = ["Tree", "Whole", "inside_itself", "levels_of", "like_names"]

Whole = NDArray[np.int64]


def like_names(names: Sequence[str]) -> list[str]:
    """Return names in which numbers are left out where several differ by these only: one of a pool is like another."""
    forms = [re.sub(r"\d+", "N", name) for name in names]
    several = Counter(form for form, _ in set(zip(forms, names, strict=True)))
    return [form if several[form] > 1 else name for form, name in zip(forms, names, strict=True)]


class Tree:
    """A tree of paths that grows; nodes that are there keep their numbers."""

    def __init__(
        self,
        places: Iterable[Place] = (),
        parent: Iterable[int] = (),
        place: Iterable[int] = (),
        line: Iterable[int] = (),
    ) -> None:
        self.places: list[Place] = list(places)
        self._numbers = {one: number for number, one in enumerate(self.places)}
        self.parent, self.place, self.line = list(parent), list(place), list(line)
        self._nodes = {key: node for node, key in enumerate(zip(self.parent, self.place, self.line, strict=True))}
        self._hung: dict[tuple[int, int], int] = {}

    def number(self, place: Place) -> int:
        """Return the number of a place."""
        found = self._numbers.get(place)
        if found is None:
            found = self._numbers[place] = len(self.places)
            self.places.append(place)
        return found

    def node(self, parent: int, place: int, line: int) -> int:
        """Return the node of a place at a line under another node."""
        key = parent, place, line
        found = self._nodes.get(key)
        if found is None:
            found = self._nodes[key] = len(self.parent)
            self.parent.append(parent)
            self.place.append(place)
            self.line.append(line)
        return found

    def alone(self, place: Place) -> int:
        """Return the node of a place that stands by itself."""
        return self.under(-1, place)

    def under(self, parent: int, place: Place) -> int:
        """Return the node of a place without a line under another node."""
        return self.node(parent, self.number(place), 0)

    def hung(self, above: int, node: int) -> int:
        """Return the node of a path as it is below another one."""
        if above < 0 or node < 0:
            return node if above < 0 else above
        key = above, node
        found = self._hung.get(key)
        if found is None:
            outer = self.hung(above, self.parent[node])
            found = self._hung[key] = self.node(outer, self.place[node], self.line[node])
        return found

    def joined(
        self, places: Sequence[Place], parent: NDArray[np.int64], place: NDArray[np.int64], line: NDArray[np.int64]
    ) -> NDArray[np.int64]:
        """Take another tree in and return the node here of each of its nodes."""
        numbers = [self.number(one) for one in places]
        found: list[int] = []
        known, node = self._nodes, self.node
        for above, at, on in zip(parent.tolist(), place.tolist(), line.tolist(), strict=True):
            key = found[above] if above >= 0 else -1, numbers[at], on
            there = known.get(key)  # most paths of a trial are in the one before
            found.append(node(*key) if there is None else there)
        return np.array(found, dtype=np.int64)

    def columns(self) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """Return parents, places and lines of all nodes."""
        parent, place, line = (np.array(one, dtype=np.int64) for one in (self.parent, self.place, self.line))
        return parent, place, line


def levels_of(parent: Whole) -> list[Whole]:
    """Return the nodes by how deep they lie, the outermost first; a node stands behind the one outside it."""
    depth = np.zeros(parent.size, dtype=np.int64)
    for node, above in enumerate(parent.tolist()):
        if above >= 0:
            depth[node] = depth[above] + 1
    order = np.argsort(depth, kind="stable")
    bounds = np.searchsorted(depth[order], np.arange(int(depth.max(initial=-1)) + 2))
    return [order[a:b] for a, b in pairwise(bounds.tolist())]


def inside_itself(parent: Whole, place: Whole) -> NDArray[np.bool_]:
    """Return for each node whether one of its place lies around it."""
    found = np.zeros(parent.size, dtype=bool)
    nodes, above = np.arange(parent.size), parent.copy()
    while (going := above >= 0).any():
        nodes, above = nodes[going], above[going]
        found[nodes] |= place[above] == place[nodes]
        left = ~found[nodes]
        nodes, above = nodes[left], parent[above[left]]
    return found
