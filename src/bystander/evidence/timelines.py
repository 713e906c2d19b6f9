"""The first kind of evidence: the phases of a trial over time, packed and as tables."""

from __future__ import annotations

import json
import struct
from collections.abc import Mapping
from typing import Any

import numpy as np

from bystander.design import TIMELINE, Lane, Timeline
from bystander.evidence.kinds import EvidenceKind, register_evidence_kind
from bystander.stats import in_circles

__all__ = ["TIMELINE_KIND"]

_VERSION = 1
_LENGTH = struct.Struct("<I")
_MOST_NS = 2**62
# Steps from one instance to the next compress better than times. Little-endian, in this order.
_PACKED_COLUMNS = (
    ("begin", "<i8"), ("length", "<i8"), ("cpu", "<i8"), ("name", "<i4"), ("label", "<i4"), ("lane", "<i4"),
    ("around", "<i4"), ("unended", "<u1"),
)  # fmt: skip


def pack_timeline(timeline: Timeline) -> bytes:
    """Return the bytes of a timeline: a head in JSON, then one array a column."""
    head = {
        "names": timeline.names, "labels": timeline.labels, "length_ns": timeline.length_ns, "count": len(timeline),
        "lanes": [[lane.process, lane.thread, lane.title] for lane in timeline.lanes],
    }  # fmt: skip
    columns: dict[str, Any] = {
        "begin": np.diff(timeline.begin_ns, prepend=0), "length": timeline.end_ns - timeline.begin_ns,
        "cpu": timeline.cpu_ns, "name": timeline.name, "label": timeline.label, "lane": timeline.lane,
        "around": timeline.around, "unended": timeline.unended,
    }  # fmt: skip
    front = json.dumps(head).encode()
    body = b"".join(np.ascontiguousarray(columns[name], dtype=kind).tobytes() for name, kind in _PACKED_COLUMNS)
    return _LENGTH.pack(len(front)) + front + body


def unpack_timeline(plain: bytes, version: int) -> Timeline:
    """Return the timeline of such bytes; raise ValueError when they are none."""
    if version != _VERSION:
        raise ValueError(f"version {version} of timelines is not known")
    try:
        (size,) = _LENGTH.unpack_from(plain)
        at = _LENGTH.size + size
        head = json.loads(plain[_LENGTH.size : at])
        columns = {}
        for name, kind in _PACKED_COLUMNS:
            columns[name] = np.frombuffer(plain, kind, head["count"], at).astype(np.int64)
            at += columns[name].size * np.dtype(kind).itemsize
        begin = np.cumsum(columns["begin"])
        if len(plain) != at:
            raise ValueError("the phases of a trial are damaged: they are longer than they say")
        return _checked(Timeline(
            tuple(head["names"]), tuple(head["labels"]), tuple(Lane(*lane) for lane in head["lanes"]), begin,
            begin + columns["length"], columns["cpu"], columns["name"], columns["label"], columns["lane"],
            columns["around"], columns["unended"].astype(bool), int(head["length_ns"]),
        ))  # fmt: skip
    except (struct.error, KeyError, TypeError, IndexError, OverflowError, RecursionError) as error:
        raise ValueError(f"the phases of a trial are damaged: {error}") from error


_TABLE_COLUMNS = ("begin_ns", "end_ns", "cpu_ns", "name", "label", "lane", "around", "unended")


def timeline_table(line: Timeline) -> dict[str, Any]:
    """Return names, labels, threads (process, thread, title), and one list a column."""
    lanes = [[lane.process, lane.thread, lane.title] for lane in line.lanes]
    columns = {name: getattr(line, name).astype(np.int64).tolist() for name in _TABLE_COLUMNS}
    return {
        "names": list(line.names), "labels": list(line.labels), "threads": lanes, "length_ns": line.length_ns, **columns
    }  # fmt: skip


def timeline_of(table: dict[str, Any]) -> Timeline:
    """Return the timeline of such a table; raise ValueError when it is none."""
    columns = {name: np.array(table[name], dtype=np.int64) for name in _TABLE_COLUMNS}
    size = columns["name"].size
    if any(column.shape != (size,) for column in columns.values()):
        raise ValueError("timeline: its columns are not of one length")
    lanes = tuple(Lane(int(process), int(thread), str(title)) for process, thread, title in table["threads"])
    unended = columns.pop("unended").astype(bool)
    names, labels = (tuple(str(one) for one in table[key]) for key in ("names", "labels"))
    return _checked(Timeline(names, labels, lanes, unended=unended, length_ns=int(table["length_ns"]), **columns))


def _checked(line: Timeline) -> Timeline:
    """Return a timeline whose every number stands for something; raise ValueError for another one."""
    names = [*line.names, *line.labels, *(lane.title for lane in line.lanes)]
    whole = [line.length_ns, *(number for lane in line.lanes for number in (lane.process, lane.thread))]
    if not all(isinstance(name, str) for name in names) or not all(type(number) is int for number in whole):
        raise ValueError("timeline: a name is no text, or a thread no number")
    size = len(line)
    for name, least, most in (
        ("name", 0, len(line.names)), ("label", 0, len(line.labels)), ("lane", 0, len(line.lanes)), ("around", -1, size)
    ):  # fmt: skip
        column = getattr(line, name)
        if size and not least <= column.min() <= column.max() < most:
            raise ValueError(f"timeline: {name} holds a number that stands for nothing")
    if size and ((line.end_ns < line.begin_ns).any() or (line.around == np.arange(size)).any()):
        raise ValueError("timeline: a phase ends before it begins, or lies in itself")
    if size and in_circles(line.around).any():
        raise ValueError("timeline: phases lie in one another in a circle")
    if size and (np.abs(line.begin_ns).max() >= _MOST_NS or np.abs(line.end_ns).max() >= _MOST_NS):
        raise ValueError("timeline: a time is beyond all clocks")
    return line


def checked_summary(summary: Mapping[str, Any], line: Timeline) -> dict[str, Any]:
    """Return what is kept beside the phases of a trial, with every value of its type."""
    labels = {
        str(phase): {str(label): float(seconds) for label, seconds in by_label.items()}
        for phase, by_label in summary.get("labels", {}).items()
    }
    problems = {str(problem): int(often) for problem, often in summary.get("problems", {}).items()}
    return {"problems": problems, "labels": labels, "instances": len(line)}


TIMELINE_KIND = EvidenceKind(
    TIMELINE, _VERSION, pack_timeline, unpack_timeline, timeline_table, timeline_of, checked_summary
)
register_evidence_kind(TIMELINE_KIND)
