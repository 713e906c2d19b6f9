"""Keys of a study file, read one by one: what is wrong is collected, and reading goes on."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from difflib import get_close_matches
from typing import Any

from bystander.design.readers.values import Key, checked, shown
from bystander.design.studies.arms import PLACEBO
from bystander.errors import UnitError

__all__ = ["KeyReader"]

_NAME = re.compile(r"[^\W_][\w .+-]*")
_RESERVED = (PLACEBO,)


class KeyReader:
    """Collects problems while it reads; every method returns something usable, right or not."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.problems: list[str] = []

    def wrong(self, path: str, clause: str) -> None:
        """Note a problem: the key's path, and what would be right. What is wrong for several inputs is told once."""
        if (problem := f"{self.file}: {path}: {clause}") not in self.problems:
            self.problems.append(problem)

    def value(self, table: Mapping[str, Any], key: Key, path: str = "") -> Any:
        """Return the value of a key, its default where it is not given, or cannot be what is given."""
        if table.get(key.name) is None:
            return key.default
        try:
            return checked(key, table[key.name])
        except UnitError as error:
            self.wrong(f"{path}.{key.name}" if path else key.name, str(error))
            return key.default

    def table(self, value: Any, path: str) -> dict[str, Any]:
        """Return a table, empty where it is none."""
        if isinstance(value, dict):
            return value
        self.wrong(path, f"{shown(value)} is no table; write [{path}]")
        return {}

    def keys(self, table: Mapping[str, Any], known: Iterable[str], path: str) -> None:
        """Check that every key is known."""
        names = tuple(known)
        for key in table:
            if key not in names:
                near = get_close_matches(key, names, 1, 0.5)
                hint = f'did you mean "{near[0]}"?' if near else "known keys are " + ", ".join(names)
                self.wrong(f"{path}.{key}" if path else key, f"there is no such key; {hint}")

    def pairs(self, value: Any, path: str, name_rule: re.Pattern[str] | None = None) -> dict[str, str]:
        """Return names with texts or numbers as texts; names follow the rule, or could be variables."""
        found = {}
        for key, item in self.table(value, path).items() if value is not None else ():
            if name_rule and not name_rule.fullmatch(key):
                self.wrong(f"{path}.{key}", "a setting's name is made of letters, digits and _")
            elif "\0" in key or not key or (name_rule is None and "=" in key):
                self.wrong(path, f"{shown(key)} is no name of a variable or workload")
            elif isinstance(item, str | int | float) and not isinstance(item, bool) and "\0" not in str(item):
                found[key] = str(item)
            else:
                self.wrong(f"{path}.{key}", f"{shown(item)} is no value; write a text or a number")
        return found

    def name(self, name: str, path: str) -> None:
        """Check the name of an arm or workload."""
        if not _NAME.fullmatch(name):
            self.wrong(path, f'"{name}" is no name; use letters, digits, spaces and . + - _')
        elif name in _RESERVED:
            self.wrong(path, f'"{name}" is a name that Bystander keeps for itself; choose another')
