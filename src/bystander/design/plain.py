"""Types of this room as plain tables and lists, for archives and files, and back with every type checked."""

from __future__ import annotations

import math
import types
import typing
from collections.abc import Mapping
from dataclasses import MISSING, Field, asdict, fields, is_dataclass
from functools import cache
from typing import Any, TypeVar

from bystander.design.measures import Measure
from bystander.design.study import Arm, Study, Workload
from bystander.design.trials import ArmState

__all__ = ["from_plain", "plain"]

T = TypeVar("T")
Plain = Study | Arm | Workload | ArmState | Measure


def plain(value: Plain) -> dict[str, Any]:
    """Return the value as dicts and lists of plain values."""
    return asdict(value)


def from_plain(kind: type[T], value: object, path: str = "") -> T:
    """Return the dataclass that `plain` made a table of; what an older version did not know has its default.

    Raises
    ------
    ValueError
        When a value is missing, unknown, or of another type; the message names its path.
    """
    if not isinstance(value, Mapping):
        raise ValueError(f"{path or kind.__name__} is no table")
    hints = _hints(typing.cast(typing.Hashable, kind))
    unknown = [key for key in value if key not in hints]
    missing = [f.name for f in fields(kind) if f.name not in value and _needed(f)]  # type: ignore[arg-type]
    for names, what in ((unknown, "is not known"), (missing, "is missing")):
        if names:
            raise ValueError(f"{_below(path, str(names[0]))} {what}")
    given = {name: _checked(hint, value[name], _below(path, name)) for name, hint in hints.items() if name in value}
    return kind(**given)


def _needed(field: Field[Any]) -> bool:
    return field.default is MISSING and field.default_factory is MISSING


@cache
def _hints(kind: Any) -> dict[str, Any]:
    return typing.get_type_hints(kind)


def _below(path: str, name: str) -> str:
    return f"{path}.{name}" if path else name


def _checked(hint: Any, value: Any, path: str) -> Any:
    """Return a value of the type that the hint names; numbers may be whole where real ones are meant."""
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if hint is Any:
        return value
    if is_dataclass(hint):
        return from_plain(typing.cast(type, hint), value, path)
    if origin is types.UnionType:
        return None if value is None else _checked(next(i for i in inner if i is not type(None)), value, path)
    if origin is tuple and isinstance(value, list | tuple):
        return tuple(_checked(inner[0], item, f"{path}[{i}]") for i, item in enumerate(value))
    if isinstance(origin, type) and issubclass(origin, Mapping) and isinstance(value, Mapping):
        return {str(key): _checked(inner[1], item, _below(path, str(key))) for key, item in value.items()}
    if hint is float and isinstance(value, int | float) and not isinstance(value, bool) and abs(value) < math.inf:
        return float(value)
    if origin is None and isinstance(value, hint) and (hint is bool or not isinstance(value, bool)):
        return value
    raise ValueError(f"{path} is of the wrong type")
