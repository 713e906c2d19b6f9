"""The keys of a workload that is a Python callable."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from bystander.design.key_reader import KeyReader, shown
from bystander.design.study import DEFAULT_SAMPLE_S, DEFAULT_SAMPLES, Arm, Callable, Workload
from bystander.errors import UnitError
from bystander.units import parse_duration

__all__ = ["CALLABLE_KEYS", "check_callable", "read_callable"]

CALLABLE_KEYS = ("call", "given", "fresh", "python", "sample", "samples", "garbage")
_PATH = re.compile(r"[A-Za-z_]\w*(\.[A-Za-z_]\w*)*:[A-Za-z_]\w*(\.[A-Za-z_]\w*)*")
_GARBAGE = ("held", "as it is")
_LONGEST_S = 60.0


def read_callable(reader: KeyReader, table: Mapping[str, Any], path: str) -> Callable | None:
    """Return the callable of a workload's table, None where it has none."""
    if "call" not in table:
        for key in CALLABLE_KEYS:
            if key in table:
                reader.wrong(f"{path}.{key}", 'it goes with call = "module:name", which is not there')
        return None
    for key in ("command", "shell", "inputs"):
        if key in table:
            reader.wrong(f"{path}.{key}", "it does not go with call; keep the one that is meant")
    values = _values(reader, table.get("given"), path)
    if values and table.get("fresh") is True:
        reader.wrong(f"{path}.fresh", 'it needs given = "module:name", which makes arguments anew')
    return Callable(
        call=_path(reader, table, "call", path),
        given="" if values or "given" not in table else _path(reader, table, "given", path),
        values=values,
        fresh=reader.flag(table, "fresh", path),
        python=reader.text(table, "python", path) or "python3",
        sample_s=_sample_s(reader, table, path),
        samples=_samples(reader, table, path),
        garbage=_garbage(reader, table, path),
    )


def _path(reader: KeyReader, table: Mapping[str, Any], key: str, path: str) -> str:
    value = table[key]
    if isinstance(value, str) and _PATH.fullmatch(value):
        return value
    reader.wrong(f"{path}.{key}", f'{shown(value)} names no callable; write for example "tidebook.tides:level"')
    return ""


def _values(reader: KeyReader, given: Any, path: str) -> str:
    """Return arguments that stand in the study as JSON, "" where there are none."""
    if not isinstance(given, list | dict):
        return ""
    try:
        return json.dumps(given, allow_nan=False)
    except (TypeError, ValueError):
        reader.wrong(f"{path}.given", "dates and nan cannot be passed on; name a function that makes them")
        return ""


def _sample_s(reader: KeyReader, table: Mapping[str, Any], path: str) -> float:
    if "sample" not in table:
        return DEFAULT_SAMPLE_S
    try:
        seconds = parse_duration(table["sample"])
    except UnitError as error:
        reader.wrong(f"{path}.sample", str(error))
        return DEFAULT_SAMPLE_S
    if not 0 < seconds <= _LONGEST_S:
        reader.wrong(f"{path}.sample", f"{shown(table['sample'])} is out of range; it must be above 0 s, at most 1 min")
        return DEFAULT_SAMPLE_S
    return seconds


def _samples(reader: KeyReader, table: Mapping[str, Any], path: str) -> int:
    value = table.get("samples", DEFAULT_SAMPLES)
    if type(value) is int and 5 <= value <= 1_000_000:
        return value
    reader.wrong(f"{path}.samples", f"{shown(value)} is no whole number from 5 to 1000000")
    return DEFAULT_SAMPLES


def _garbage(reader: KeyReader, table: Mapping[str, Any], path: str) -> str:
    value = table.get("garbage", "held")
    if value not in _GARBAGE:
        reader.wrong(f"{path}.garbage", f'{shown(value)} is no way to collect garbage; write "held" or "as it is"')
    return str(value)


def check_callable(reader: KeyReader, path: str, workload: Workload, arms: tuple[Arm, ...]) -> None:
    """Check that no arm replaces a callable by a command."""
    for arm in arms:
        if workload.base in arm.command or "" in arm.command:
            reader.wrong(f"arms.{arm.name}.command", f"it replaces {path}.call by a command; keep one of them")
