"""When a trial begins and when it is ready: the keys `start`, `files`, `floor`, `ready` and `end` of a workload."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.kinds import WorkloadKind, kind_of
from bystander.design.readers.study_keys import COMMAND_KEYS, READY_KEYS
from bystander.design.readers.values import pattern_problem, shown
from bystander.design.studies.placeholders import placeholder_names
from bystander.design.studies.words import Start
from bystander.design.studies.workloads import Ready, Workload
from bystander.errors import UsageError

__all__ = ["check_floors", "read_ready", "read_start", "ready_option"]

_EXAMPLE = "write for example ready = 'listening on', ready.file = \"run.pid\" or ready.port = 8080"


def read_start(reader: KeyReader, table: Mapping[str, Any], path: str, kind: WorkloadKind) -> Start:
    """Return where the files of a workload are before each trial."""
    start = table.get("start")
    if start is None:
        if "files" in table:
            reader.wrong(f"{path}.files", 'they go with start = "from-disk" or "from-memory"')
        return Start.WHEREVER
    if not start or start not in list(Start):
        known = " or ".join(f'"{name}"' for name in Start if name)
        reader.wrong(f"{path}.start", f"{shown(start)} is no start; write {known}")
        return Start.WHEREVER
    if start not in kind.starts:
        why = (
            'a callable is timed in a process that is up already; write "in-process", or time a command'
            if Start.IN_PROCESS in kind.starts
            else 'a command starts a process of its own; write call = "module:name" to time one that is up already'
        )
        reader.wrong(f"{path}.start", f"{shown(start)}: {why}")
    return Start(start)


def check_floors(reader: KeyReader, workloads: Sequence[Workload]) -> None:
    """Say which floors are no workloads, or of another kind."""
    by_name = {workload.name: workload for workload in workloads}
    for workload in workloads:
        path, floor = f"workloads.{workload.base}.floor", by_name.get(workload.floor)
        if not workload.floor:
            continue
        if floor is None:
            near = get_close_matches(workload.floor, list(by_name), 1, 0.4)
            hint = f'; did you mean "{near[0]}"?' if near else ""
            reader.wrong(path, f'there is no workload "{workload.floor}"{hint}')
        elif floor is workload or floor.floor:
            reader.wrong(
                path, f'"{workload.floor}" cannot be the floor: it is this workload, or has a floor of its own'
            )
        elif not (kind_of(workload.what).floored and kind_of(floor.what).floored):
            reader.wrong(path, "a floor is what a process pays before it begins; callables are timed without it")


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
