"""The phases of a trial as bytes: a head in JSON, then one array a column, compressed together."""

from __future__ import annotations

import json
import struct
import zlib
from typing import Any

import numpy as np

from bystander.design import Lane, Timeline

__all__ = ["packed_timeline", "unpacked_timeline"]

_LENGTH = struct.Struct("<I")
# Steps from one instance to the next compress better than times. Little-endian, in this order.
_COLUMNS = (
    ("begin", "<i8"), ("length", "<i8"), ("cpu", "<i8"), ("name", "<i4"), ("label", "<i4"), ("lane", "<i4"),
    ("around", "<i4"), ("unended", "<u1"),
)  # fmt: skip


def packed_timeline(timeline: Timeline) -> bytes:
    """Return the bytes of a timeline."""
    head = {
        "names": timeline.names, "labels": timeline.labels, "length_ns": timeline.length_ns, "count": len(timeline),
        "lanes": [[lane.process, lane.thread, lane.title] for lane in timeline.lanes],
    }  # fmt: skip
    columns: dict[str, Any] = {
        "begin": np.diff(timeline.begin_ns, prepend=0), "length": timeline.end_ns - timeline.begin_ns,
        "cpu": timeline.cpu_ns, "name": timeline.name, "label": timeline.label, "lane": timeline.lane,
        "around": timeline.around, "unended": timeline.unended,
    }  # fmt: skip
    told = json.dumps(head).encode()
    body = b"".join(np.ascontiguousarray(columns[name], dtype=kind).tobytes() for name, kind in _COLUMNS)
    return zlib.compress(_LENGTH.pack(len(told)) + told + body, 1)


def unpacked_timeline(data: bytes) -> Timeline:
    """Return the timeline of such bytes; raise ValueError when they are none."""
    try:
        plain = zlib.decompress(data)
        (size,) = _LENGTH.unpack_from(plain)
        at = _LENGTH.size + size
        head = json.loads(plain[_LENGTH.size : at])
        columns = {}
        for name, kind in _COLUMNS:
            columns[name] = np.frombuffer(plain, kind, head["count"], at).astype(np.int64)
            at += columns[name].size * np.dtype(kind).itemsize
        begin = np.cumsum(columns["begin"])
        return Timeline(
            tuple(head["names"]), tuple(head["labels"]), tuple(Lane(*lane) for lane in head["lanes"]), begin,
            begin + columns["length"], columns["cpu"], columns["name"], columns["label"], columns["lane"],
            columns["around"], columns["unended"].astype(bool), head["length_ns"],
        )  # fmt: skip
    except (zlib.error, struct.error, KeyError, TypeError) as error:
        raise ValueError(f"the phases of a trial are damaged: {error}") from error
