"""A part of what was seen: under a place, without a place, or with libraries counted with who calls them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase

import numpy as np
from numpy.typing import NDArray

from bystander.design import BUILT_IN, LIBRARY, PYTHON, Counts, Place, Stacks, place_label, short_file
from bystander.evidence.places import IMPORT_FILES

__all__ = ["Narrowing", "is_importing", "is_library", "matching_places", "narrowed_counts", "narrowed_stacks"]

Whole = NDArray[np.int64]


def matching_places(places: Iterable[Place], pattern: str, root: str) -> set[Place]:
    """Return the places that a word means: by label, name, file, or file and line; * for any letters.

    A label that is the very word counts alone: others that only match are then not meant.

    Parameters
    ----------
    root : str
        The arm's folder, from which files are named.
    """
    exact, found = set(), set()
    for place in places:
        label, file = place_label(place), short_file(place.file, root)
        if label == pattern:
            exact.add(place)
        names = (label, place.name, file, f"{file}:{place.line}")
        if any(name and fnmatchcase(name, pattern) for name in names):
            found.add(place)
    return exact or found


def is_library(place: Place) -> bool:
    """Whether a place is a built-in, or a function of the standard library or of an installed package."""
    return place.kind == BUILT_IN or (place.kind == PYTHON and LIBRARY.search(place.file) is not None)


def is_importing(place: Place) -> bool:
    """Whether a place belongs to the machinery of imports, and not to what is imported."""
    return place.kind == PYTHON and place.file.startswith(IMPORT_FILES)


@dataclass(frozen=True)
class Narrowing:
    """What is kept of paths.

    Attributes
    ----------
    under : callable or None
        Only what lies under such places, from the outermost on.
    without : callable or None
        Nothing that lies under such places, nor these themselves.
    folded : callable or None
        Such places count with the one that calls them.
    """

    under: Callable[[Place], bool] | None = None
    without: Callable[[Place], bool] | None = None
    folded: Callable[[Place], bool] | None = None


def narrowed_stacks(one: Stacks, by: Narrowing) -> Stacks:
    """Return a trial of which only some paths are left; its length stays that of the whole."""
    to, parent, place, line = _nodes(one, by)
    at, elapsed = to[one.node], to[one.elapsed_node]
    kept, kept_elapsed = at >= 0, elapsed >= 0
    return replace(
        one, parent=parent, place=place, line=line, at_ns=one.at_ns[kept], task=one.task[kept], node=at[kept],
        processor_ns=one.processor_ns[kept], queued_ns=one.queued_ns[kept], waiting_ns=one.waiting_ns[kept],
        wait=one.wait[kept], elapsed_node=elapsed[kept_elapsed], elapsed_task=one.elapsed_task[kept_elapsed],
        elapsed_wait=one.elapsed_wait[kept_elapsed], elapsed_ns=one.elapsed_ns[kept_elapsed],
    )  # fmt: skip


def _nodes(one: Stacks, by: Narrowing) -> tuple[Whole, Whole, Whole, Whole]:
    """Return the new node of each, -1 for none; and parents, places and lines of the new ones."""
    under, without, folded = (
        [test is not None and test(place) for place in one.places] for test in (by.under, by.without, by.folded)
    )
    to, inside, gone = [-1] * one.parent.size, [False] * one.parent.size, [False] * one.parent.size
    known: dict[tuple[int, int, int], int] = {}
    for node, (above, place, line) in enumerate(
        zip(one.parent.tolist(), one.place.tolist(), one.line.tolist(), strict=True)
    ):
        gone[node] = without[place] or (above >= 0 and gone[above])
        inside[node] = by.under is None or under[place] or (above >= 0 and inside[above])
        if gone[node] or not inside[node]:
            continue
        outer = to[above] if above >= 0 else -1
        if folded[place] and outer >= 0:
            to[node] = outer
        else:
            to[node] = known.setdefault((outer, place, line), len(known))
    columns = np.array(list(known), dtype=np.int64).reshape(-1, 3)
    return np.array(to, dtype=np.int64), columns[:, 0], columns[:, 1], columns[:, 2]


def narrowed_counts(one: Counts, under: Collection[Place] | None, without: Collection[Place]) -> Counts:
    """Return the calls of what may be called under some places, without those of others.

    A count knows who called, not from where on: what is called from elsewhere too is counted whole.
    """
    left = {at for at, place in enumerate(one.places) if place in without}
    edges = [edge for edge in one.edges if edge.callee not in left and edge.caller not in left]
    if under is not None:
        reached = {at for at, place in enumerate(one.places) if place in under and at not in left}
        roots, called = set(reached), dict[int, set[int]]()
        for edge in edges:
            called.setdefault(edge.caller, set()).add(edge.callee)
        going = list(reached)
        while going:
            for callee in called.get(going.pop(), set()) - reached:
                reached.add(callee)
                going.append(callee)
        edges = [edge for edge in edges if edge.caller in reached or edge.callee in roots]
    return replace(one, edges=tuple(edges))
