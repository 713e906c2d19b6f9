"""The key `numbers` of a workload: what its program prints that is a measure."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.study_keys import NUMBER_KEYS
from bystander.design.readers.values import pattern_problem, shown
from bystander.design.studies.workloads import PrintedNumber
from bystander.errors import UsageError

__all__ = ["printed_number", "read_numbers"]

_EXAMPLE = "write for example rows = 'rows: (\\d+)', or a table with pattern, unit, better and of"


def read_numbers(reader: KeyReader, value: Any, path: str) -> dict[str, PrintedNumber]:
    """Return the numbers of a workload by their names."""
    path = f"{path}.numbers"
    found: dict[str, PrintedNumber] = {}
    for name, item in reader.table(value, path).items() if value is not None else ():
        here = f"{path}.{name}"
        reader.name(name, here)
        table: Mapping[str, Any] = {"pattern": item} if isinstance(item, str) else item
        if not isinstance(table, dict) or not table.get("pattern"):
            reader.wrong(here, f"{shown(item)} finds no number; {_EXAMPLE}")
            continue
        reader.keys(table, NUMBER_KEYS, here)
        pattern, unit, better, of = (reader.value(table, key, here) for key in NUMBER_KEYS.values())
        if isinstance(pattern, str) and (problem := _problem(pattern)):
            reader.wrong(f"{here}.pattern", problem)
        found[name] = PrintedNumber(pattern, unit, better, of)
    return found


def printed_number(text: str) -> tuple[str, PrintedNumber]:
    """Return name and number of a text NAME=PATTERN, as it is given on a command line; raise UsageError otherwise."""
    name, equals, pattern = text.partition("=")
    if not equals or not re.fullmatch(r"[\w.+-]+", name) or not pattern:
        raise UsageError(f"--number: {shown(text)} is none; write for example --number 'rows=rows: (\\d+)'")
    if problem := _problem(pattern):
        raise UsageError(f"--number: {problem}")
    return name, PrintedNumber(pattern)


def _problem(pattern: str) -> str:
    """Return why a pattern finds no number, as a clause; "" where it may."""
    if problem := pattern_problem(pattern):
        return problem
    groups = re.compile(pattern, re.MULTILINE).groups
    too_many = f"{shown(pattern)} has {groups} groups, and the number is one of them; (?:...) makes none"
    return too_many if groups > 1 else ""
