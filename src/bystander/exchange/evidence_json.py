"""Evidence in documents: as tables of plain values where its kind is known, else as bytes (RFC 4648, base64)."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Mapping
from typing import Any

from bystander.design import TIMELINE, Evidence, Payload
from bystander.evidence import content_of, kind_named, packed

__all__ = ["evidence_of", "evidence_of_told", "evidence_table", "whole", "with_packet"]


def whole(value: Any) -> int:
    """Return a whole number of a document; raise ValueError when it is none."""
    if isinstance(value, bool) or not isinstance(value, int):
        raise ValueError(f"{str(value)[:40]} is no whole number")
    return value


def evidence_table(packet: Evidence) -> dict[str, Any]:
    """Return a packet as plain values; its payload must have been read."""
    kind = kind_named(packet.kind)
    front = {"kind": packet.kind, "version": packet.version, "summary": dict(packet.summary)}
    if kind is not None:
        return {**front, "content": kind.table(content_of(packet))}
    assert packet.payload
    return {**front, "codec": packet.payload.codec, "payload": base64.b64encode(packet.payload.data).decode()}


def evidence_of(table: Mapping[str, Any]) -> Evidence:
    """Return the packet of such a table, with everything checked; raise ValueError when it is none."""
    name, version, summary = str(table["kind"]), whole(table["version"]), table["summary"]
    if not isinstance(summary, Mapping):
        raise ValueError("evidence.summary is no table")
    kind = kind_named(name)
    carried = None if "content" in table else Evidence(name, version, dict(summary), _payload(table))
    if kind is None:
        if carried is None:
            raise ValueError(f'evidence of kind "{name}" is not known here')
        return carried
    # Bytes of a known kind were written where it was not known; they are looked at like any other content.
    content = kind.of_table(kind.table(content_of(carried)) if carried else table["content"])
    return packed(kind, content, kind.checked_summary(summary, content))


def _payload(table: Mapping[str, Any]) -> Payload:
    try:
        return Payload(base64.b64decode(table["payload"], validate=True), str(table["codec"]))
    except binascii.Error as error:
        raise ValueError(f"evidence.payload is no base64: {error}") from None


def with_packet(packets: tuple[Evidence, ...], packet: Evidence) -> tuple[Evidence, ...]:
    """Return packets with one more; raise ValueError when one of its kind, and of its block, is there."""
    if (packet.kind, packet.summary.get("block")) in {(one.kind, one.summary.get("block")) for one in packets}:
        raise ValueError(f'evidence of kind "{packet.kind}" stands twice')
    return (*packets, packet)


def evidence_of_told(table: Mapping[str, Any]) -> Evidence:
    """Return the packet of what documents of version 1 told of a trial: its phases, with problems and labels."""
    return evidence_of({"kind": TIMELINE, "version": 1, "summary": table, "content": table["phases"]})
