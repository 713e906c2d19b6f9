"""From stacks and counts to a table of places: seconds with and without what each calls, calls, and time per call."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import (
    BUILT_IN,
    HARNESS,
    IMPORTS,
    LIBRARY,
    PYTHON,
    START,
    WAITS,
    Caller,
    Counts,
    Place,
    PlaceRow,
    PlaceTable,
    Stacks,
    TaskRow,
)
from bystander.evidence.trees import Tree, Whole, inside_itself, levels_of, like_names

__all__ = ["ALL_GROUPS", "IMPORT_FILES", "Sums", "calls_of", "groups_of", "is_ours", "place_table", "sums_of"]

IMPORT_FILES = ("<frozen importlib", "<frozen zipimport>")
_STARTING = ("<frozen site>", "<frozen getpath>", "<frozen runpy>", "runpy.py", "site.py")
_THREADS = {("Thread._bootstrap", "threading.py"), ("Thread._bootstrap_inner", "threading.py")}
_HARNESS_FILE, _MARKS_FILE = "callable_harness.py", "bystander_marks.py"
_QUEUE = len(WAITS) - 1
_CALLERS = 5  # of each place that are kept


@dataclass(frozen=True)
class Sums:
    """The time of each node of one tree, over some trials, in ns.

    Attributes
    ----------
    spent : array of int, shape (n,)
        By node, without the nodes below.
    waited : array of int, shape (n, w)
        Of that, waiting: by position in `WAITS`.
    readings : array of int, shape (n,)
        On how many readings that rests.
    tasks : mapping
        By name: how many threads and processes, and their time on a processor and waiting, in ns.
    """

    tree: Tree
    spent: Whole
    waited: Whole
    readings: Whole
    trials: int
    elapsed_ns: int
    tasks: Mapping[str, Sequence[int]]


def sums_of(trials: Sequence[Stacks], view: str) -> Sums:
    """Return the time of each node over some trials of one state."""
    tree = Tree()
    nodes = [tree.joined(one.places, one.parent, one.place, one.line) for one in trials]
    size = len(tree.parent)
    spent, readings = np.zeros(size, dtype=np.int64), np.zeros(size, dtype=np.int64)
    waited = np.zeros((size, len(WAITS)), dtype=np.int64)
    for one, to in zip(trials, nodes, strict=True):
        np.add.at(readings, to[one.node], 1)
        if view == "elapsed":
            np.add.at(spent, to[one.elapsed_node], one.elapsed_ns)
            waits = one.elapsed_wait >= 0
            np.add.at(waited, (to[one.elapsed_node[waits]], one.elapsed_wait[waits]), one.elapsed_ns[waits])
        elif view == "processor":
            np.add.at(spent, to[one.node], one.processor_ns)
        else:
            np.add.at(spent, to[one.node], one.waiting_ns + one.queued_ns)
            np.add.at(waited, (to[one.node], one.wait), one.waiting_ns)
            np.add.at(waited[:, _QUEUE], to[one.node], one.queued_ns)
    return Sums(tree, spent, waited, readings, len(trials), sum(one.length_ns for one in trials), _by_task(trials))


def _by_task(trials: Sequence[Stacks]) -> dict[str, list[int]]:
    found: dict[str, list[int]] = {}
    for one in trials:
        ran = np.bincount(one.task, one.processor_ns, len(one.tasks)).tolist()
        waited = np.bincount(one.task, one.waiting_ns + one.queued_ns, len(one.tasks)).tolist()
        for name, a, b in zip(like_names([task.name for task in one.tasks]), ran, waited, strict=True):
            sums = found.setdefault(name, [0, 0, 0])
            sums[0], sums[1], sums[2] = sums[0] + 1, sums[1] + int(a), sums[2] + int(b)
    return found


def place_table(sums: Sums, counts: Sequence[Counts], view: str, workload: str, arm: str, run: str) -> PlaceTable:
    """Return the places of one state, in no order yet."""
    parent, place, _ = sums.tree.columns()
    levels = levels_of(parent)
    group, shown = groups_of(sums.tree, parent, place, levels)
    each = 1e9 * max(1, sums.trials)
    waits = _by_word(sums.waited.sum(axis=0), each)
    spent, waiting = float(sums.spent.sum()) / each, sum(waits.values())
    table = PlaceTable(
        workload, arm, run, view, sums.trials, int(sums.readings.sum()), sums.elapsed_ns / each,
        spent - waiting, waiting, sum(ran for _, ran, _ in sums.tasks.values()) / each, waits,
        tuple(_rows(sums, parent, place, levels, group, shown)), tuple(_group_rows(sums, group)), _task_rows(sums),
    )  # fmt: skip
    return with_counts(table, counts) if counts else table


def _rows(
    sums: Sums, parent: Whole, place: Whole, levels: list[Whole], group: Whole, shown: NDArray[np.bool_]
) -> Iterator[PlaceRow]:
    """Yield each place that is a row."""
    whole, readings = sums.spent.copy(), sums.readings.copy()
    # What belongs to a group at the end counts for nobody that called it.
    whole[group >= 0] = readings[group >= 0] = 0
    for nodes in reversed(levels):
        inner = nodes[parent[nodes] >= 0]
        np.add.at(whole, parent[inner], whole[inner])
        np.add.at(readings, parent[inner], readings[inner])
    outermost = shown & ~inside_itself(parent, place)
    size, each, of_place = len(sums.tree.places), 1e9 * max(1, sums.trials), place[outermost]
    whole_s = np.bincount(of_place, whole[outermost], size) / each
    rests = np.bincount(of_place, readings[outermost], size)
    alone_s = np.bincount(place[shown], sums.spent[shown], size) / each
    waited = np.zeros((size, len(WAITS)), dtype=np.int64)
    np.add.at(waited, place[shown], sums.waited[shown])
    depth = np.full(size, len(levels))
    for level, nodes in enumerate(levels):
        depth[place[nodes]] = np.minimum(depth[place[nodes]], level)
    for k in np.unique(of_place).tolist():
        waits = _by_word(waited[k], each) if waited[k].any() else {}
        yield PlaceRow(
            sums.tree.places[k], float(whole_s[k]), float(alone_s[k]), int(rests[k]), waits=waits, depth=int(depth[k])
        )


def _group_rows(sums: Sums, group: Whole) -> Iterator[PlaceRow]:
    """Yield what is taken together at the end."""
    mine, each = group >= 0, 1e9 * max(1, sums.trials)
    spent = np.bincount(group[mine], sums.spent[mine], len(ALL_GROUPS)) / each
    readings = np.bincount(group[mine], sums.readings[mine], len(ALL_GROUPS))
    for k, kind in enumerate(ALL_GROUPS):
        if spent[k] > 0:
            yield PlaceRow(Place(kind, kind), float(spent[k]), float(spent[k]), int(readings[k]))


def _task_rows(sums: Sums) -> tuple[TaskRow, ...]:
    """Return threads and processes by name, those that ran longest first."""
    trials, each = max(1, sums.trials), 1e9 * max(1, sums.trials)
    rows = [TaskRow(name, n / trials, ran / each, waited / each) for name, (n, ran, waited) in sums.tasks.items()]
    return tuple(sorted(rows, key=lambda row: -row.processor_s))


def _by_word(waited: Whole, each: float) -> dict[str, float]:
    """Return what was waited for, in seconds a trial."""
    return {WAITS[k]: float(ns) / each for k, ns in enumerate(waited.tolist()) if ns}


ALL_GROUPS = (IMPORTS, HARNESS, START)


def groups_of(tree: Tree, parent: Whole, place: Whole, levels: list[Whole]) -> tuple[Whole, NDArray[np.bool_]]:
    """Return for each node the group that its time belongs to (-1 for none), and whether its place is a row."""
    own = np.full(len(tree.places), -1)
    hidden = np.zeros(len(tree.places), dtype=bool)
    is_import = np.zeros(len(tree.places), dtype=bool)
    for k, one in enumerate(tree.places):
        base = one.file.rpartition("/")[2]
        is_import[k] = one.file.startswith(IMPORT_FILES)
        if one.kind in ("start", "end") or _starting(one):
            own[k] = 2
        elif base == _HARNESS_FILE and one.kind == PYTHON:
            own[k] = 1
        hidden[k] = own[k] >= 0 or (one.name, base) in _THREADS or one.kind == "gap"
    inside = np.zeros(parent.size, dtype=bool)
    for nodes in levels:
        above = parent[nodes]
        inside[nodes] = is_import[place[nodes]] | np.where(above >= 0, inside[above], False)
    group = np.where(inside, 0, own[place])
    return group, (group < 0) & ~hidden[place]


def with_counts(table: PlaceTable, counts: Sequence[Counts]) -> PlaceTable:
    """Return a table with the calls of the first counting trial, and whether the others gave the same."""
    by_trial = [calls_of(one) for one in counts]
    first, callers = by_trial[0], _callers(counts[0], by_trial[0])
    repeats = all(one == first for one in by_trial[1:]) if len(counts) > 1 else None

    def told(row: PlaceRow) -> PlaceRow:
        calls, inner, resumed = first[row.place]
        same = all(one.get(row.place) == first[row.place] for one in by_trial)
        known = callers.get(row.place, ())
        return replace(row, calls=calls, inner=inner, resumed=resumed, repeats=same, callers=known)

    known = {row.place for row in table.rows}
    rows = [told(row) if row.place in first else row for row in table.rows]
    for place in first.keys() - known:
        seconds = np.nan if place.kind == BUILT_IN else 0.0  # those of a built-in stand with the line that calls it
        rows.append(told(PlaceRow(place, seconds, seconds)))
    total = sum(calls for calls, _, _ in first.values())
    return replace(table, rows=tuple(rows), calls=total, repeats=repeats)


def _starting(place: Place) -> bool:
    """Whether a place belongs to how an interpreter begins: the standard library's own, not a file of that name."""
    return place.file.rpartition("/")[2] in _STARTING and LIBRARY.search(place.file) is not None


def is_ours(place: Place) -> bool:
    """Whether a place is how an interpreter begins or imports, or belongs to what calls a callable."""
    base = place.file.rpartition("/")[2]
    return place.file.startswith("<frozen importlib") or base in (_HARNESS_FILE, _MARKS_FILE) or _starting(place)


def calls_of(counts: Counts) -> dict[Place, tuple[int, int, int]]:
    """Return calls, inner ones and resumptions of each place."""
    found: dict[Place, tuple[int, int, int]] = {}
    ours = [is_ours(place) for place in counts.places]
    for edge in counts.edges:
        place = counts.places[edge.callee]
        # What imports do besides running modules depends on which of them were compiled already.
        if ours[edge.callee] or (place.kind == BUILT_IN and edge.caller >= 0 and ours[edge.caller]):
            continue
        calls, inner, resumed = found.get(place, (0, 0, 0))
        found[place] = calls + edge.calls, inner + edge.inner, resumed + edge.resumed
    return found


def _callers(counts: Counts, calls: Mapping[Place, tuple[int, int, int]]) -> dict[Place, tuple[Caller, ...]]:
    """Return who calls each place, most often first; itself is left out."""
    sums: dict[tuple[int, int], int] = {}
    for edge in counts.edges:
        if edge.caller >= 0 and edge.caller != edge.callee:
            sums[edge.caller, edge.callee] = sums.get((edge.caller, edge.callee), 0) + edge.calls
    found: dict[Place, list[Caller]] = {}
    for (caller, callee), number in sums.items():
        place = counts.places[caller]
        own, inner, _ = calls.get(place, (0, 0, 0))
        if own > inner and number:
            found.setdefault(counts.places[callee], []).append(Caller(place, number, number / (own - inner)))
    return {
        place: tuple(sorted(callers, key=lambda one: (-one.calls, one.place))[:_CALLERS])
        for place, callers in found.items()
    }
