"""Keys of a study file, read one by one: what is wrong is collected, and reading goes on."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from typing import Any

from bystander.design.study import PLACEBO
from bystander.errors import UnitError
from bystander.units import parse_share

__all__ = ["KeyReader", "shown"]

_NAME = re.compile(r"[^\W_][\w .+-]*")
_RESERVED = (PLACEBO,)


class KeyReader:
    """Collects problems while it reads; every method returns something usable, right or not."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.problems: list[str] = []

    def wrong(self, path: str, clause: str) -> None:
        """Note a problem: the key's path, and what would be right."""
        self.problems.append(f"{self.file}: {path}: {clause}")

    def table(self, value: Any, path: str) -> dict[str, Any]:
        """Return a table, empty where it is none."""
        if isinstance(value, dict):
            return value
        self.wrong(path, f"{shown(value)} is no table; write [{path}]")
        return {}

    def keys(self, table: Mapping[str, Any], known: tuple[str, ...], path: str) -> None:
        """Check that every key is known."""
        for key in table:
            if key not in known:
                near = get_close_matches(key, known, 1, 0.5)
                hint = f'did you mean "{near[0]}"?' if near else "known keys are " + ", ".join(known)
                self.wrong(f"{path}.{key}" if path else key, f"there is no such key; {hint}")

    def text(self, table: Mapping[str, Any], key: str, path: str) -> str | None:
        """Return a text that is not blank, or None."""
        value = table.get(key)
        if value is None or (isinstance(value, str) and value.strip() and "\0" not in value):
            return value
        self.wrong(f"{path}.{key}" if path else key, f"{shown(value)} is no text; write a string in quotes")
        return None

    def choice(self, table: Mapping[str, Any], key: str, among: Sequence[str]) -> str:
        """Return one of a few words, the first by default."""
        value = table.get(key, among[0])
        if value in among:
            return str(value)
        known = ", ".join(f'"{word}"' for word in among)
        self.wrong(key, f"{shown(value)} is not known; write one of {known}")
        return among[0]

    def texts(self, value: Any, path: str) -> tuple[str, ...]:
        """Return a list of texts, empty where it is none."""
        if value is None:
            return ()
        if isinstance(value, list) and all(
            isinstance(item, str) and item.strip() and "\0" not in item for item in value
        ):
            return tuple(value)
        self.wrong(path, f'{shown(value)} is no list of texts; write for example ["make"]')
        return ()

    def patterns(self, value: Any, path: str) -> tuple[str, ...]:
        """Return patterns of files inside a folder, empty where there are none."""
        found = self.texts(value, path)
        for pattern in found:
            if pattern.startswith("/") or ".." in pattern.split("/"):
                self.wrong(path, f'{shown(pattern)} leads out of the folder; write for example "data/*.csv"')
        return found

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

    def share(self, table: Mapping[str, Any], key: str, default: float, most: float) -> float:
        """Return a share above 0 and at most `most`."""
        if key not in table:
            return default
        try:
            share = parse_share(table[key])
        except UnitError as error:
            self.wrong(key, str(error))
            return default
        if not 0 < share <= most:
            self.wrong(key, f"{shown(table[key])} is out of range; it must be above 0 and at most {most:.0%}")
            return default
        return share

    def flag(self, table: Mapping[str, Any], key: str, path: str = "") -> bool:
        """Return true or false; false where it is neither."""
        value = table.get(key, False)
        if not isinstance(value, bool):
            self.wrong(f"{path}.{key}" if path else key, f"{shown(value)} is neither true nor false")
        return value is True

    def whole(self, table: Mapping[str, Any], key: str, default: int | None, least: int, most: int) -> int | None:
        """Return a whole number within bounds."""
        value = table.get(key, default)
        if value is None or (type(value) is int and least <= value <= most):
            return value
        self.wrong(key, f"{shown(value)} is no whole number from {least} to {most}")
        return default


def shown(value: Any) -> str:
    """Return a value as a message shows it."""
    if isinstance(value, str):
        return f'"{value}"'
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, dict):
        return "a table"
    return str(value)
