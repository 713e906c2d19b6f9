"""Paths, kept once each: a tree of places with the line at which each calls the next."""

from __future__ import annotations

from array import array
from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from bystander.design import Place

__all__ = ["Paths"]


class Paths:
    """Places and nodes as they are met; each gets a number that stays."""

    def __init__(self) -> None:
        self.places: list[Place] = []
        self._place_numbers: dict[Place, int] = {}
        self._nodes: dict[tuple[int, int, int], int] = {}
        self._parent, self._place, self._line = array("q"), array("q"), array("q")

    def __len__(self) -> int:
        return len(self._parent)

    def place(self, place: Place) -> int:
        """Return the number of a place."""
        number = self._place_numbers.get(place)
        if number is None:
            number = self._place_numbers[place] = len(self.places)
            self.places.append(place)
        return number

    def node(self, parent: int, place: int, line: int) -> int:
        """Return the number of a place at a line under a node; -1 is the root."""
        key = parent, place, line
        number = self._nodes.get(key)
        if number is None:
            number = len(self._parent)
            self._line.append(line)  # first: a number that has no room is refused before anything else is kept
            self._parent.append(parent)
            self._place.append(place)
            self._nodes[key] = number
        return number

    def alone(self, place: Place) -> int:
        """Return the node of a place that stands by itself."""
        return self.node(-1, self.place(place), 0)

    def path(self, steps: Iterable[tuple[int, int]]) -> int:
        """Return the node of a path, given as places and lines from the outermost on."""
        node = -1
        for place, line in steps:
            node = self.node(node, place, line)
        return node

    def columns(self) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """Return parents, places and lines of all nodes."""
        parent, place, line = (np.array(one, dtype=np.int64) for one in (self._parent, self._place, self._line))
        return parent, place, line
