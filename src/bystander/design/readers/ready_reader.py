"""The keys `ready` and `end` of a workload: how it is seen that a trial is ready, and whether it ends there."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.study_keys import COMMAND_KEYS, READY_KEYS
from bystander.design.readers.values import pattern_problem, shown
from bystander.design.studies.placeholders import placeholder_names
from bystander.design.studies.workloads import Ready
from bystander.errors import UsageError

__all__ = ["read_ready", "ready_option"]

_EXAMPLE = "write for example ready = 'listening on', ready.file = \"run.pid\" or ready.port = 8080"


def read_ready(reader: KeyReader, table: Mapping[str, Any], path: str) -> Ready:
    """Return how it is seen that a workload's trial is ready, and whether it ends there."""
    end = reader.value(table, COMMAND_KEYS["end"], path) == "at ready"
    value = table.get("ready")
    if value is None:
        if end:
            reader.wrong(f"{path}.end", f'"at ready" needs to know when that is; {_EXAMPLE}')
        return Ready()
    path = f"{path}.ready"
    if isinstance(value, str):
        value = {"pattern": value}
    if not isinstance(value, dict) or len(value) != 1 or not next(iter(value.values())):
        reader.wrong(path, f"{shown(value)} is no way to see it; {_EXAMPLE}")
        return Ready()
    reader.keys(value, READY_KEYS, path)
    pattern, file = (reader.value(value, READY_KEYS[key], path) for key in ("pattern", "file"))
    if pattern and (problem := _problem(pattern)):
        reader.wrong(f"{path}.pattern", problem)
    return Ready(pattern, file, _port(reader, value.get("port"), f"{path}.port"), end)


def _port(reader: KeyReader, value: Any, path: str) -> str:
    if value is None or (isinstance(value, str) and placeholder_names(value)):
        return value or ""
    if isinstance(value, int | str) and not isinstance(value, bool) and _is_port(str(value)):
        return str(value)
    reader.wrong(path, f"{shown(value)} is no port; write a number from 1 to 65535, or a {{setting}}")
    return ""


def _is_port(text: str) -> bool:
    return text.isascii() and text.isdigit() and 1 <= int(text[:6]) <= 65535


def ready_option(pattern: str, end: bool) -> Ready:
    """Return what a command line says of it; raise UsageError where that is no pattern."""
    if problem := _problem(pattern):
        raise UsageError(f"--ready: {problem}")
    return Ready(pattern, end=end)


def _problem(pattern: str) -> str:
    if problem := pattern_problem(pattern, of_bytes=True):
        return problem
    found = re.compile(pattern.encode("utf-8", "surrogateescape"), re.MULTILINE).search(b"")
    return f"{shown(pattern)} matches where nothing is printed" if found else ""
