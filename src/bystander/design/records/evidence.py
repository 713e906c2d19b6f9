"""Evidence: what a trial tells beside its readings, whatever its kind.

A packet names its kind and the version of its form; a summary of plain values is always read, the payload on request.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

__all__ = ["ANSWERS_APART", "TIMELINE", "Evidence", "Payload", "Whose"]

ANSWERS_APART = "answers-apart"  # where the answers of two arms first part
TIMELINE = "timeline"  # the phases of a trial over time


@dataclass(frozen=True)
class Payload:
    """Bytes, with how they are packed: "zlib", or "" for plain ones."""

    data: bytes
    codec: str = ""

    @cached_property
    def digest(self) -> str:
        """SHA-256 of the bytes, in hexadecimal digits."""
        return hashlib.sha256(self.data).hexdigest()


@dataclass(frozen=True)
class Evidence:
    """A packet of one kind.

    Attributes
    ----------
    summary : mapping
        Plain values, in short.
    payload : Payload or None
        None where it was not asked for.
    """

    kind: str
    version: int
    summary: Mapping[str, Any] = field(default_factory=dict)
    payload: Payload | None = None


@dataclass(frozen=True)
class Whose:
    """What evidence is of that is not of one trial: a workload under an arm in a run, by their positions."""

    run: int
    workload: int
    arm: int
