"""The kinds of evidence: one entry says how what is told is packed, read back, and written into documents."""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from bystander.design import Evidence, Measure, Payload, ToldLimits, TrialOutcome
from bystander.units import size_text

__all__ = [
    "Collected",
    "EvidenceKind",
    "TrialFiles",
    "content_of",
    "evidence_kinds",
    "kind_named",
    "packed",
    "register_evidence_kind",
    "register_json_kind",
]

_PACKED = "zlib"
_MOST_UNPACKED = 256 * 2**20  # bytes of one packet, whatever a file says: arrays of it take some times as much
_MOST_JSON = 32 * 2**20


@dataclass(frozen=True)
class TrialFiles:
    """Where a trial leaves what it tells; the files need not be there.

    Attributes
    ----------
    output : Path
        What it printed.
    marks : Path
        Lines of marks.
    spans : Path or None
        Its spans in the form of OTLP; None where the study names no file.
    most : ToldLimits
        The most that it may tell.
    """

    output: Path
    marks: Path
    spans: Path | None = None
    most: ToldLimits = field(default_factory=ToldLimits)


@dataclass(frozen=True)
class Collected:
    """What was collected of a trial.

    Attributes
    ----------
    content : object
        As the kind packs it.
    summary, readings, measures : mapping
        In short, as plain values; readings by name in SI units; and their measures.
    """

    content: Any
    summary: Mapping[str, Any] = field(default_factory=dict)
    readings: Mapping[str, float] = field(default_factory=dict)
    measures: Mapping[str, Measure] = field(default_factory=dict)


def _as_it_is(summary: Mapping[str, Any], _content: Any) -> dict[str, Any]:
    return dict(summary)


@dataclass(frozen=True)
class EvidenceKind:
    """One kind.

    Attributes
    ----------
    version : int
        Of the form that `pack` writes.
    pack, unpack : callable
        From content to bytes; and from bytes of some version back. Both pure.
    table, of_table : callable
        From content to plain values for documents, and back with everything checked.
    checked_summary : callable
        From a summary that came in a document, and the content, to one whose every value is of its type.
    collect : callable or None
        From a trial and its files to what it tells, None for nothing; without it trials tell nothing of this kind.
    most : int
        The most bytes that one packet holds, unfolded.

    `unpack`, `of_table` and `checked_summary` raise ValueError, KeyError or TypeError on what they do not know.
    """

    name: str
    version: int
    pack: Callable[[Any], bytes]
    unpack: Callable[[bytes, int], Any]
    table: Callable[[Any], Any]
    of_table: Callable[[Any], Any]
    checked_summary: Callable[[Mapping[str, Any], Any], dict[str, Any]] = _as_it_is
    collect: Callable[[TrialOutcome, TrialFiles], Collected | None] | None = None
    most: int = _MOST_UNPACKED


_KINDS: dict[str, EvidenceKind] = {}


def register_evidence_kind(kind: EvidenceKind) -> None:
    """Add a kind, or put it in the place of the one of its name."""
    _KINDS[kind.name] = kind


def register_json_kind(
    name: str,
    version: int,
    table: Callable[[Any], Any],
    of_table: Callable[[Any], Any],
    checked_summary: Callable[[Mapping[str, Any], Any], dict[str, Any]] = _as_it_is,
) -> EvidenceKind:
    """Add a kind whose payload is its table as JSON; return it."""

    def unpack(plain: bytes, found: int) -> Any:
        if found != version:
            raise ValueError(f"version {found} of {name} is not known")
        return of_table(json.loads(plain))

    kind = EvidenceKind(
        name, version, lambda content: json.dumps(table(content)).encode(), unpack, table, of_table, checked_summary,
        most=_MOST_JSON,
    )  # fmt: skip
    register_evidence_kind(kind)
    return kind


def evidence_kinds() -> tuple[EvidenceKind, ...]:
    """Return all kinds."""
    return tuple(_KINDS.values())


def kind_named(name: str) -> EvidenceKind | None:
    """Return a kind by its name, None where there is none: then its packets are carried as they are."""
    return _KINDS.get(name)


def packed(kind: EvidenceKind, content: Any, summary: Mapping[str, Any]) -> Evidence:
    """Return the packet of some content; raise ValueError when it holds more than is read back."""
    plain = kind.pack(content)
    if len(plain) > kind.most:
        raise ValueError(f"it holds more than the {size_text(kind.most)} that can be kept")
    return Evidence(kind.name, kind.version, summary, Payload(zlib.compress(plain, 1), _PACKED))


def content_of(evidence: Evidence) -> Any:
    """Return what a packet holds, by its kind.

    Raises
    ------
    ValueError
        When its payload was not read, its kind is not known, or its bytes are damaged.
    """
    kind, payload = kind_named(evidence.kind), evidence.payload
    if kind is None or payload is None:
        raise ValueError(f'evidence "{evidence.kind}" is of no known kind, or was not read')
    try:
        data = _unpacked(payload.data, kind.most) if payload.codec == _PACKED else payload.data
        return kind.unpack(data, evidence.version)
    except (zlib.error, KeyError, TypeError, ValueError, IndexError, OverflowError, RecursionError) as error:
        raise ValueError(f'evidence "{evidence.kind}" is damaged: {error}') from error


def _unpacked(data: bytes, most: int) -> bytes:
    """Return what was compressed; what somebody else wrote may be made to fill the memory."""
    stream = zlib.decompressobj()
    unpacked = stream.decompress(data, most)
    if stream.unconsumed_tail or not stream.eof:
        raise ValueError(f"it is cut off, or larger than {size_text(most)}")
    return unpacked
