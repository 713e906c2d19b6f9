"""Values as people write them: one description of a key says its type, range and default; one function checks."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum
from typing import Any

from bystander.errors import UnitError
from bystander.units import parse_duration, parse_share, parse_size

__all__ = ["Key", "Type", "checked", "pattern_problem", "shown"]


class Type(Enum):
    """What the value of a key is."""

    TEXT = "text"
    TEXTS = "list of texts"
    PATTERNS = "list of patterns"
    FLAG = "true or false"
    SHARE = "share"
    DURATION = "duration"
    SIZE = "size"
    WHOLE = "whole number"
    NUMBER = "number"
    CHOICE = "one of a few words"
    OWN = "read by code of its own"


@dataclass(frozen=True)
class Key:
    """One key of a study.

    Attributes
    ----------
    words : str
        What it says, in short.
    default : object
        What it is when it is not given.
    least, most : float
        Ends of its range, in SI units; the lower one is left out where `above` is set.
    among : tuple of str
        Of a choice.
    wrong : str
        What is told of a value out of range, behind the value.
    """

    name: str
    type: Type
    words: str
    default: Any = None
    least: float = -math.inf
    most: float = math.inf
    above: bool = False
    among: tuple[str, ...] = ()
    wrong: str = ""

    @property
    def complaint(self) -> str:
        """What is told of a value that it cannot have."""
        if self.wrong:
            return self.wrong
        if self.type is Type.WHOLE:
            return f"is no whole number from {int(self.least)} to {int(self.most)}"
        known = ", ".join(f'"{word}"' for word in self.among)
        return f"is not known; write one of {known}"


_PARSERS: dict[Type, Callable[[object], float]] = {
    Type.SHARE: parse_share,
    Type.DURATION: parse_duration,
    Type.SIZE: parse_size,
}


def shown(value: Any) -> str:
    """Return a value as a message shows it."""
    if isinstance(value, str):
        return f'"{value}"'
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, dict):
        return "a table"
    return str(value)


def pattern_problem(pattern: str, of_bytes: bool = False) -> str:
    """Return why a text is no regular expression, of text or of bytes, as a clause; "" where it is one."""
    try:
        re.compile(pattern.encode("utf-8", "surrogateescape") if of_bytes else pattern, re.MULTILINE)
    except (re.error, RecursionError, OverflowError) as error:
        return f"{shown(pattern)} is no regular expression: {error}"
    return ""


def checked(key: Key, value: Any) -> Any:
    """Return the value of a key, parsed and in its range.

    Raises
    ------
    UnitError
        With a clause that shows the value, and says what would be right.
    """
    if key.type is Type.TEXT:
        right, complaint = is_text(value), "is no text; write a string in quotes"
    elif key.type in (Type.TEXTS, Type.PATTERNS):
        right = isinstance(value, list) and all(map(is_text, value))
        complaint, value = 'is no list of texts; write for example ["make"]', tuple(value) if right else value
    elif key.type is Type.FLAG:
        right, complaint = isinstance(value, bool), "is neither true nor false"
    elif key.type is Type.CHOICE:
        right, complaint = isinstance(value, str) and value in key.among, key.complaint
    else:
        parse = _PARSERS.get(key.type)
        number = parse(value) if parse else value
        right, complaint = _number(key, number), key.complaint
        value = number if right else value
    if not right:
        raise UnitError(f"{shown(value)} {complaint}")
    if key.type is Type.PATTERNS:
        for pattern in value:
            if pattern.startswith("/") or ".." in pattern.split("/"):
                raise UnitError(f'{shown(pattern)} leads out of the folder; write for example "data/*.csv"')
    return value


def is_text(value: object) -> bool:
    """Whether it is a text that is not blank."""
    return isinstance(value, str) and bool(value.strip()) and "\0" not in value


def _number(key: Key, value: Any) -> bool:
    """Whether it is a number in the key's range, whole where it must be."""
    if isinstance(value, bool) or not isinstance(value, int | float):
        return False
    if key.type is Type.WHOLE and not isinstance(value, int):
        return False
    return (key.least < value if key.above else key.least <= value) and value <= key.most
