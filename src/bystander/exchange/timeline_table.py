"""The phases of a trial as plain tables, for documents, and back with everything checked."""

from __future__ import annotations

from typing import Any

import numpy as np

from bystander.design import Lane, Timeline

__all__ = ["timeline_of", "timeline_table"]

_COLUMNS = ("begin_ns", "end_ns", "cpu_ns", "name", "label", "lane", "around", "unended")


def timeline_table(line: Timeline) -> dict[str, Any]:
    """Return names, labels, threads (process, thread, title), and one list a column."""
    lanes = [[lane.process, lane.thread, lane.title] for lane in line.lanes]
    columns = {name: getattr(line, name).astype(np.int64).tolist() for name in _COLUMNS}
    return {
        "names": list(line.names), "labels": list(line.labels), "threads": lanes, "length_ns": line.length_ns, **columns
    }  # fmt: skip


def timeline_of(table: dict[str, Any]) -> Timeline:
    """Return the timeline of such a table; raise ValueError when it is none."""
    columns = {name: np.array(table[name], dtype=np.int64) for name in _COLUMNS}
    size = columns["name"].size
    if any(column.shape != (size,) for column in columns.values()):
        raise ValueError("told: its columns are not of one length")
    lanes = tuple(Lane(int(process), int(thread), str(title)) for process, thread, title in table["threads"])
    for name, most in (
        ("name", table["names"]),
        ("label", table["labels"]),
        ("lane", lanes),
        ("around", columns["name"]),
    ):
        least = -1 if name == "around" else 0
        if size and not least <= columns[name].min() <= columns[name].max() < len(most):
            raise ValueError(f"told: {name} holds a number that stands for nothing")
    if size and ((columns["end_ns"] < columns["begin_ns"]).any() or (columns["around"] == np.arange(size)).any()):
        raise ValueError("told: a phase ends before it begins, or lies in itself")
    unended = columns.pop("unended").astype(bool)
    names, labels = (tuple(str(one) for one in table[key]) for key in ("names", "labels"))
    return Timeline(names, labels, lanes, unended=unended, length_ns=int(table["length_ns"]), **columns)
