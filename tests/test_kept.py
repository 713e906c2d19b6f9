"""Results of the pure rooms are what they were when they had been checked: see `kept.py`."""

from __future__ import annotations

import json
from functools import cache
from typing import Any

import pytest
from kept import FILE, PARTS, simple


@cache
def before() -> dict[str, Any]:
    found: dict[str, Any] = json.loads(FILE.read_text(encoding="utf-8"))
    return found


def differences(old: Any, new: Any, path: str = "") -> list[str]:
    """Return where two results differ by more than rounding."""
    if isinstance(old, dict) and isinstance(new, dict) and list(old) == list(new):
        return [one for key in old for one in differences(old[key], new[key], f"{path}.{key}")]
    if isinstance(old, list) and isinstance(new, list) and len(old) == len(new):
        return [one for k, pair in enumerate(zip(old, new, strict=True)) for one in differences(*pair, f"{path}[{k}]")]
    if isinstance(old, int | float) and isinstance(new, int | float) and type(old) is not bool:
        return [] if old == pytest.approx(new, rel=1e-7, abs=1e-12) else [f"{path}: {old} -> {new}"]
    return [] if old == new else [f"{path}: {old!r} -> {new!r}"]


@pytest.mark.parametrize("part", PARTS)
def test_results_are_what_they_were(part: str) -> None:
    """Every number to seven digits, every sentence to the letter."""
    found = differences(before()[part], simple(PARTS[part]()))

    assert found == []


def test_a_difference_is_found() -> None:
    """In a number, a word, a length or a key; rounding is none."""
    old = {"a": [1.0, "x"], "b": {"c": True}}

    assert differences(old, {"a": [1.0 + 1e-12, "x"], "b": {"c": True}}) == []
    assert differences(old, {"a": [1.1, "y"], "b": {"c": False}}) == [
        ".a[0]: 1.0 -> 1.1", ".a[1]: 'x' -> 'y'", ".b.c: True -> False",
    ]  # fmt: skip
    assert differences(old, {"a": [1.0], "b": {"c": True}})
    assert differences(old, {"a": [1.0, "x"]})
