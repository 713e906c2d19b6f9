"""Types of this room as plain tables and lists, for archives and files, and back with every type checked."""

from __future__ import annotations

import math
import types
import typing
from collections.abc import Mapping
from dataclasses import MISSING, Field, asdict, fields, is_dataclass, replace
from enum import Enum
from functools import cache
from typing import Any, TypeVar

from bystander.design.measures import Measure
from bystander.design.readers.kinds import kinds
from bystander.design.records.facts import ArmFacts
from bystander.design.records.runs import BlockHead, Run
from bystander.design.records.trials import ArmState, LookTaken
from bystander.design.studies.arms import Arm
from bystander.design.studies.comparisons import Comparison
from bystander.design.studies.names import renamed
from bystander.design.studies.study import LEAST_RISK, Study
from bystander.design.studies.workloads import Command, TimedCallable, What, Workload

__all__ = ["from_plain", "plain", "study_from_plain"]

T = TypeVar("T")
Plain = Study | Arm | Workload | ArmState | Measure | Run | BlockHead | LookTaken


def plain(value: Plain) -> dict[str, Any]:
    """Return the value as dicts and lists of plain values."""
    if isinstance(value, ArmState):
        return {**asdict(replace(value, facts=ArmFacts())), "facts": value.facts.known}
    if isinstance(value, LookTaken):
        sides = {"arm": value.comparison.candidate, "reference": value.comparison.reference}
        seen = {"blocks": value.blocks, "level": value.level, "outcome": value.outcome}
        return {"workload": value.workload, **sides, **seen}
    table = asdict(value)
    if isinstance(value, Workload):
        table["what"] = {"kind": value.kind, **table["what"]}
    if isinstance(value, Study):
        table["workloads"] = [plain(workload) for workload in value.workloads]
    return table


def study_from_plain(value: object, path: str = "") -> Study:
    """Return a study that `plain` made a table of, also an earlier version of it.

    Raises
    ------
    ValueError
        As `from_plain`, and where a comparison names an arm that is not there.
    """
    if isinstance(value, Mapping) and isinstance(value.get("workloads"), list):
        value = {**value, "workloads": [_workload_of_today(workload) for workload in value["workloads"]]}
    study = renamed(from_plain(Study, value, path))
    for comparison in study.compared:
        if not all(0 <= arm < len(study.arms) for arm in comparison.arms) or len(set(comparison.arms)) < 2:
            raise ValueError(f"{_below(path, 'compared')} names arms that are not there, or one arm twice")
    if study.chain and not (study.links and set(study.links) <= set(study.compared)):
        raise ValueError(f"{_below(path, 'chain')} has links that are not compared")
    fewest = min((study.blocks, *study.planned_blocks))
    if not (0 < study.margin <= 1 and LEAST_RISK < study.risk <= 0.5 and fewest > 0):
        raise ValueError(f"{path or 'study'}: margin, risk or blocks are out of range")
    if not (study.arms and study.workloads):
        raise ValueError(f"{path or 'study'}: it has no arms or no workloads")
    return study


def _workload_of_today(workload: object) -> object:
    """Return the table of a workload; what it runs stood in keys of its own before."""
    if not isinstance(workload, Mapping) or "what" in workload:
        return workload
    kept = {key: value for key, value in workload.items() if key not in ("command", "shell", "timed")}
    if workload.get("timed") is not None:
        timed = workload["timed"]
        what = {"kind": TimedCallable.kind, **timed} if isinstance(timed, Mapping) else timed
    else:
        what = {"kind": Command.kind, "template": workload.get("command"), "shell": workload.get("shell", False)}
    return {**kept, "what": what}


def look_of(table: object, path: str) -> LookTaken:
    """Return a look of its table, also of one of before, which did not tell its reference."""
    if not isinstance(table, Mapping):
        raise ValueError(f"{path} is no table")
    given = {"reference": 0, **table}
    numbers = [_checked(int, given.pop(name, None), _below(path, name)) for name in ("reference", "arm", "workload")]
    rest = {name: _checked(kind, given.get(name), _below(path, name)) for name, kind in _LOOK.items()}
    return LookTaken(numbers[2], Comparison(numbers[0], numbers[1]), **rest)


_LOOK: dict[str, type] = {"blocks": int, "level": float, "outcome": str}


def from_plain(kind: type[T], value: object, path: str = "") -> T:
    """Return the dataclass that `plain` made a table of; what an older version did not know has its default.

    Raises
    ------
    ValueError
        When a value is missing, unknown, or of another type; the message names its path.
    """
    if kind is LookTaken:
        return typing.cast(T, look_of(value, path))
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
    hints = typing.get_type_hints(kind)
    return {name: hint for name, hint in hints.items() if typing.get_origin(hint) is not typing.ClassVar}


def _below(path: str, name: str) -> str:
    return f"{path}.{name}" if path else name


def _what(value: Any, path: str) -> Any:
    """Return what a workload runs, by the kind that its table names."""
    kind = kinds().get(str(value.get("kind"))) if isinstance(value, Mapping) else None
    if kind is None:
        raise ValueError(f"{path} is of no known kind")
    return from_plain(kind.type, {key: item for key, item in value.items() if key != "kind"}, path)


def _checked(hint: Any, value: Any, path: str) -> Any:
    """Return a value of the type that the hint names; numbers may be whole where real ones are meant."""
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if hint is Any:
        return value
    if hint is What:
        return _what(value, path)
    if hint is ArmFacts and isinstance(value, Mapping):
        return ArmFacts.of(value)
    if is_dataclass(hint):
        return from_plain(typing.cast(type, hint), value, path)
    if isinstance(hint, type) and issubclass(hint, Enum) and isinstance(value, str | int):
        try:
            return hint(value)
        except ValueError:
            raise ValueError(f"{path} is not known: {value}") from None
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
