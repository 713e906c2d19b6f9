"""The key `answer` of a workload: what the arms must agree on, and how it is compared."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from bystander.design.key_reader import KeyReader, shown
from bystander.design.study import ANSWER_RULES, CALL_ANSWER_RULES, AnswerRule
from bystander.errors import UnitError
from bystander.units import parse_share

__all__ = ["ANSWER_KEYS", "read_answer"]

ANSWER_KEYS = ("of", "file", "mask", "order", "tolerance", "accept")
_ORDERS = ("as printed", "any")
_COMPARED_AS_TEXT = ("mask", "order", "tolerance")


def read_answer(reader: KeyReader, table: Mapping[str, Any], path: str, is_call: bool) -> tuple[str | None, AnswerRule]:
    """Return what the arms of a workload must agree on, None for nothing, and how it is compared."""
    value, rules = table.get("answer"), CALL_ANSWER_RULES if is_call else ANSWER_RULES
    path = f"{path}.answer"
    if value is None:
        return None, AnswerRule()
    if not isinstance(value, dict):
        return _of(reader, value, path, tuple(rule for rule in rules if rule != "file")), AnswerRule()
    reader.keys(value, ANSWER_KEYS, path)
    file = reader.text(value, "file", path) or ""
    of = _of(reader, value.get("of", "file" if file else rules[0]), path, rules)
    if (of == "file") != bool(file):
        reader.wrong(path, 'of = "file" and file = "..." go together')
    for key in _COMPARED_AS_TEXT:
        if of == "exit code" and key in value:
            reader.wrong(f"{path}.{key}", "an exit code is compared as it is")
    return of, AnswerRule(
        file, _mask(reader, value, path), _any_order(reader, value, path), _tolerance(reader, value, path),
        reader.text(value, "accept", path) or "",
    )  # fmt: skip


def _of(reader: KeyReader, value: Any, path: str, rules: tuple[str, ...]) -> str | None:
    if value in rules:
        return str(value)
    known = " or ".join(f'"{rule}"' for rule in rules)
    reader.wrong(path, f"{shown(value)} is no answer rule here; write {known}")
    return None


def _mask(reader: KeyReader, table: Mapping[str, Any], path: str) -> tuple[str, ...]:
    patterns = reader.texts(table.get("mask"), f"{path}.mask")
    for pattern in patterns:
        try:
            re.compile(pattern)
        except re.error as error:
            reader.wrong(f"{path}.mask", f"{shown(pattern)} is no regular expression: {error}")
    return patterns


def _any_order(reader: KeyReader, table: Mapping[str, Any], path: str) -> bool:
    value = table.get("order", _ORDERS[0])
    if value not in _ORDERS:
        reader.wrong(f"{path}.order", f'{shown(value)} is no order of lines; write "any" or "as printed"')
    return bool(value == "any")


def _tolerance(reader: KeyReader, table: Mapping[str, Any], path: str) -> float:
    if "tolerance" not in table:
        return 0.0
    try:
        share = parse_share(table["tolerance"])
    except UnitError as error:
        reader.wrong(f"{path}.tolerance", str(error))
        return 0.0
    if not 0 < share < 1:
        reader.wrong(f"{path}.tolerance", f"{shown(table['tolerance'])} is out of range; it must be above 0, below 1")
        return 0.0
    return share
