"""Summaries of inspections that came in documents: every value is of its type, or they are refused."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

__all__ = ["checked_counts", "checked_stacks"]


def _whole(value: Any) -> int:
    if not isinstance(value, int) or isinstance(value, bool) or value < 0:
        raise ValueError(f"summary: {value!r} is no whole number from 0 on")
    return value


def _seconds(value: Any) -> float:
    if not isinstance(value, int | float) or not math.isfinite(value) or value < 0:
        raise ValueError(f"summary: {value!r} is no number of seconds")
    return float(value)


def _seconds_or_none(value: Any) -> float | None:
    return None if value is None else _seconds(value)


def _words(value: Any) -> list[str]:
    return [str(one) for one in value]


def _problems(value: Any) -> dict[str, int]:
    return {str(name): _whole(times) for name, times in value.items()}


def _items(value: Any) -> dict[str, float]:
    return {str(name): _seconds(count) for name, count in value.items()}


_SHARED: dict[str, Callable[[Any], Any]] = {
    "block": _whole, "status": str, "elapsed_s": _seconds, "items": _items
}  # fmt: skip
_STACKS: dict[str, Callable[[Any], Any]] = {
    **_SHARED, "way": str, "tick_s": _seconds, "readings": _whole, "ticks": _whole, "missed": _whole, "torn": _whole,
    "lost": _whole, "problems": _problems, "unwatched_s": _seconds_or_none, "interpreters": _words, "said": str,
    "answer": str,
}  # fmt: skip
_COUNTS: dict[str, Callable[[Any], Any]] = {**_SHARED, "processes": _whole, "problems": _words}


def _checked(summary: Mapping[str, Any], known: Mapping[str, Callable[[Any], Any]]) -> dict[str, Any]:
    try:
        told = {"answer": "", **summary}  # inspections of before kept none
        return {name: read(told[name]) for name, read in known.items()}
    except (KeyError, AttributeError, OverflowError) as error:
        raise ValueError(f"summary: {error} is missing or of the wrong type") from None


def checked_stacks(summary: Mapping[str, Any], _content: Any) -> dict[str, Any]:
    """Return the summary of a watched trial; raise ValueError or TypeError where a value is missing or wrong."""
    return _checked(summary, _STACKS)


def checked_counts(summary: Mapping[str, Any], _content: Any) -> dict[str, Any]:
    """Return the summary of a counting trial; raise ValueError or TypeError where a value is missing or wrong."""
    return _checked(summary, _COUNTS)
