"""From a watched trial to what is kept of it; how that is packed, and written into documents."""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bystander.design import QUEUED, STACKS, WAITS, Place, Stacks, Task, Watched
from bystander.evidence.followed import Followed
from bystander.evidence.kinds import EvidenceKind, register_evidence_kind
from bystander.evidence.summaries import checked_stacks
from bystander.evidence.thread_times import ThreadTimes, thread_times
from bystander.evidence.trees import Tree

__all__ = ["STACKS_KIND", "stacks_of"]

_VERSION = 1
_LENGTH = struct.Struct("<I")
_NODES = (("parent", "<i4"), ("place", "<i4"), ("line", "<i4"))
_READINGS = (
    ("at_ns", "<i8"), ("task", "<i4"), ("node", "<i4"), ("processor_ns", "<i8"), ("queued_ns", "<i8"),
    ("waiting_ns", "<i8"), ("wait", "<i1"),
)  # fmt: skip
_ELAPSED = (("elapsed_node", "<i4"), ("elapsed_task", "<i4"), ("elapsed_wait", "<i1"), ("elapsed_ns", "<i8"))
_COLUMNS = (("nodes", _NODES), ("readings", _READINGS), ("elapsed", _ELAPSED))


def stacks_of(watched: Watched) -> Stacks:
    """Return what is kept of a watched trial."""
    times = _times(watched)
    readings = watched.at_ns.size
    processor, queued, waiting = (np.zeros(readings, dtype=np.int64) for _ in range(3))
    for one in times:
        processor[one.readings] = one.to_ns - one.from_ns
        queued[one.readings], waiting[one.readings] = one.queued, one.waiting
    tree = Tree(watched.places, watched.parent.tolist(), watched.place.tolist(), watched.line.tolist())
    node, task, processor = _with_unseen(watched, times, tree, processor)
    more = node.size - readings
    followed = Followed(watched.tasks, times, watched.node.tolist(), watched.wait.tolist(), tree)
    followed.add(0, watched.began_ns, max(watched.ended_ns, watched.began_ns))
    keys = np.array(list(followed.sums), dtype=np.int64).reshape(-1, 3)
    parent, place, line = tree.columns()
    began = watched.began_ns
    zeros = np.zeros(more, dtype=np.int64)
    return Stacks(
        tuple(tree.places),
        tuple(one._replace(began_ns=one.began_ns - began, ended_ns=one.ended_ns - began) for one in watched.tasks),
        parent, place, line,
        np.append(watched.at_ns - began, zeros), task, node, processor, np.append(queued, zeros),
        np.append(waiting, zeros), np.append(watched.wait, zeros), keys[:, 0], keys[:, 1], keys[:, 2],
        np.array(list(followed.sums.values()), dtype=np.int64), watched.ended_ns - began, watched.period_ns,
    )  # fmt: skip


def _times(watched: Watched) -> list[ThreadTimes]:
    by_task = np.lexsort((watched.switch_ns, watched.switch_task))
    switched = watched.switch_task[by_task]
    read = np.lexsort((watched.at_ns, watched.task))
    of_readings = watched.task[read]
    found = []
    for number, task in enumerate(watched.tasks):
        mine = by_task[np.searchsorted(switched, number) : np.searchsorted(switched, number, "right")]
        at_ns, state = watched.switch_ns[mine], watched.switch_state[mine]
        if at_ns.size and task.began_ns < at_ns[0]:  # one that was just begun stands in the queue first
            at_ns, state = np.append(task.began_ns, at_ns), np.append(QUEUED, state)
        own = read[np.searchsorted(of_readings, number) : np.searchsorted(of_readings, number, "right")]
        found.append(
            thread_times(
                at_ns, state, task.ended_ns, own, watched.at_ns[own],
                watched.tick_ns[own],
            )
        )  # fmt: skip
    return found


def _with_unseen(
    watched: Watched, times: list[ThreadTimes], tree: Tree, processor: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Return node, thread and CPU time of all readings, and of threads that ended before anybody looked at them."""
    nodes, tasks, ran = [], [], []
    for number, one in enumerate(times):
        if one.begin.size and not one.readings.size and (total := int((one.end - one.begin)[one.state == 0].sum())):
            nodes.append(tree.alone(Place("program", watched.tasks[number].name)))
            tasks.append(number)
            ran.append(total)
    more = (np.array(one, dtype=np.int64) for one in (nodes, tasks, ran))
    node, task, spent = (np.append(a, b) for a, b in zip((watched.node, watched.task, processor), more, strict=True))
    return node, task, spent


def pack_stacks(stacks: Stacks) -> bytes:
    """Return the bytes of what is kept: a head in JSON, then one array a column, little-endian."""
    head = {
        "places": [list(one) for one in stacks.places], "tasks": [list(one) for one in stacks.tasks],
        "length_ns": stacks.length_ns, "period_ns": stacks.period_ns,
        "nodes": stacks.parent.size, "readings": stacks.at_ns.size, "elapsed": stacks.elapsed_ns.size,
    }  # fmt: skip
    front = json.dumps(head).encode()
    body = b"".join(
        np.ascontiguousarray(getattr(stacks, name), dtype=kind).tobytes()
        for _, columns in _COLUMNS
        for name, kind in columns
    )
    return _LENGTH.pack(len(front)) + front + body


def unpack_stacks(plain: bytes, version: int) -> Stacks:
    """Return what such bytes hold; raise ValueError when they are none."""
    if version != _VERSION:
        raise ValueError(f"version {version} of stacks is not known")
    try:
        (size,) = _LENGTH.unpack_from(plain)
        at = _LENGTH.size + size
        head = json.loads(plain[_LENGTH.size : at])
        columns: dict[str, NDArray[np.int64]] = {}
        for group, described in _COLUMNS:
            for name, kind in described:
                columns[name] = np.frombuffer(plain, kind, head[group], at).astype(np.int64)
                at += columns[name].size * np.dtype(kind).itemsize
        return _made(head, columns)
    except (struct.error, KeyError, TypeError, IndexError) as error:
        raise ValueError(f"stacks are damaged: {error}") from error


def stacks_table(stacks: Stacks) -> dict[str, Any]:
    """Return places, threads, and one list a column."""
    columns = {name: getattr(stacks, name).tolist() for _, described in _COLUMNS for name, _ in described}
    return {
        "places": [list(one) for one in stacks.places], "tasks": [list(one) for one in stacks.tasks],
        "length_ns": stacks.length_ns, "period_ns": stacks.period_ns, **columns,
    }  # fmt: skip


def stacks_from_table(table: dict[str, Any]) -> Stacks:
    """Return what such a table holds; raise ValueError, KeyError or TypeError when it is none."""
    columns = {}
    for _, described in _COLUMNS:
        for name, kind in described:
            values = np.array(table[name]) if table[name] else np.zeros(0, dtype=np.int64)
            fits = values.dtype.kind == "i" and values.shape == (len(table[described[0][0]]),)
            if not fits or (values != values.astype(kind)).any():
                raise ValueError(f"stacks: {name} is no column of whole numbers like the others")
            columns[name] = values
    return _made(table, columns)


def _made(head: dict[str, Any], columns: dict[str, NDArray[np.int64]]) -> Stacks:
    """Return what is kept, with everything checked that stands for something else."""
    places = tuple(Place(str(kind), str(name), str(file), int(line)) for kind, name, file, line in head["places"])
    tasks = tuple(
        Task(int(process), int(thread), int(parent), str(name), int(began), int(ended))
        for process, thread, parent, name, began, ended in head["tasks"]
    )
    nodes = columns["parent"].size
    for name, least, most in (
        ("place", 0, len(places)), ("task", 0, len(tasks)), ("node", 0, nodes), ("wait", 0, len(WAITS)),
        ("elapsed_node", 0, nodes), ("elapsed_task", 0, len(tasks)), ("elapsed_wait", -1, len(WAITS)),
        ("processor_ns", 0, 2**62), ("queued_ns", 0, 2**62), ("waiting_ns", 0, 2**62), ("elapsed_ns", 0, 2**62),
    ):  # fmt: skip
        column = columns[name]
        if column.size and not least <= column.min() <= column.max() < most:
            raise ValueError(f"stacks: {name} holds a number that stands for nothing")
    if nodes and not ((columns["parent"] >= -1) & (columns["parent"] < np.arange(nodes))).all():
        raise ValueError("stacks: a path lies in none that stands before it")
    return Stacks(places, tasks, length_ns=int(head["length_ns"]), period_ns=int(head["period_ns"]), **columns)


STACKS_KIND = EvidenceKind(
    STACKS, _VERSION, pack_stacks, unpack_stacks, stacks_table, stacks_from_table, checked_stacks
)
register_evidence_kind(STACKS_KIND)
