"""The key `inputs` of a workload: one workload for each combination of values, or for each table of a list."""

from __future__ import annotations

import itertools
import re
from collections.abc import Mapping
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.values import shown
from bystander.design.studies.names import workload_name

__all__ = ["as_texts", "read_inputs"]

_SETTING = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_NAME_RULE = "an input's name is made of letters, digits and _"


def read_inputs(reader: KeyReader, value: Any, path: str) -> list[dict[str, Any]]:
    """Return the values of each workload by the names of inputs; one without any where there are no inputs.

    Values are texts and numbers as they stand in the study.
    """
    if isinstance(value, list):
        return _listed(reader, value, path)
    inputs = _crossed(reader, value, path)
    return [dict(zip(inputs, chosen, strict=True)) for chosen in itertools.product(*inputs.values())]


def as_texts(values: Mapping[str, Any]) -> dict[str, str]:
    """Return values of inputs as they are filled into commands and stand in names."""
    return {name: str(value) for name, value in values.items()}


def _is_value(item: Any) -> bool:
    return isinstance(item, str | int | float) and not isinstance(item, bool)


def _crossed(reader: KeyReader, value: Any, path: str) -> dict[str, tuple[Any, ...]]:
    found: dict[str, tuple[Any, ...]] = {}
    for key, items in reader.table(value, path).items() if value is not None else ():
        right = isinstance(items, list) and all(map(_is_value, items))
        if not _SETTING.fullmatch(key):
            reader.wrong(f"{path}.{key}", _NAME_RULE)
        elif not right or not items:
            reader.wrong(f"{path}.{key}", f'{shown(items)} is no list of values; write for example ["north", "south"]')
        elif len({str(item) for item in items}) < len(items):
            twice = next(str(item) for item in items if [str(i) for i in items].count(str(item)) > 1)
            reader.wrong(
                f"{path}.{key}",
                f'the value "{twice}" stands twice; each would be a workload of the same name',
            )
        else:
            found[key] = tuple(items)
    return found


def _listed(reader: KeyReader, items: list[Any], path: str) -> list[dict[str, Any]]:
    """Return one table after another: values that belong together, such as a size and how often it is repeated."""
    found: list[dict[str, Any]] = []
    problems = len(reader.problems)
    for k, item in enumerate(items):
        here = f"{path}[{k}]"
        if not isinstance(item, dict) or not item:
            reader.wrong(here, f"{shown(item)} is no table of values; write for example {{ keys = 1000, rounds = 30 }}")
            continue
        for key, value in item.items():
            if not _SETTING.fullmatch(key):
                reader.wrong(f"{here}.{key}", _NAME_RULE)
            elif not _is_value(value):
                reader.wrong(f"{here}.{key}", f"{shown(value)} is no value; write a text or a number")
        if isinstance(items[0], dict) and set(item) != set(items[0]):
            reader.wrong(here, f"its names are not those of the first table ({', '.join(map(str, items[0]))})")
        found.append({key: item[key] for key in items[0] if key in item} if isinstance(items[0], dict) else {})
    names = [workload_name("", as_texts(values)) for values in found]
    if len(reader.problems) == problems and len(set(names)) < len(names):
        twice = next(k for k, name in enumerate(names) if name in names[:k])
        reader.wrong(f"{path}[{twice}]", "its values stand in an earlier table; both would be one workload")
    if not items:
        reader.wrong(path, "it is an empty list; write for example [{ keys = 1000 }, { keys = 100000 }]")
    return found if found and len(reader.problems) == problems else [{}]
