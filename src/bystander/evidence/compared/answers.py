"""Where the answers of two arms first part, as a rehearsal saw it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from bystander.design import ANSWERS_APART
from bystander.evidence.kinds import register_json_kind

__all__ = ["ANSWERS_KIND"]

_MOST_LINES = 100

Apart = dict[str, tuple[str, ...]]  # by the name of the arm that it is held against


def _apart_of(table: Any) -> Apart:
    """Return lines by arm; raise ValueError or TypeError when it is no such table."""
    if not isinstance(table, Mapping):
        raise TypeError("answers-apart: it is no table of lines by arm")
    found = {str(arm): tuple(lines) for arm, lines in table.items()}
    if any(not isinstance(line, str) for lines in found.values() for line in lines):
        raise TypeError("answers-apart: a line is no text")
    return {arm: lines[:_MOST_LINES] for arm, lines in found.items()}


ANSWERS_KIND = register_json_kind(
    ANSWERS_APART, 1, lambda apart: {arm: list(lines) for arm, lines in apart.items()}, _apart_of
)
