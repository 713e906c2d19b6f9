"""The keys `start`, `files` and `floor` of a workload: where a start begins, and what every run pays anyway."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.kinds import WorkloadKind, kind_of
from bystander.design.readers.values import shown
from bystander.design.studies.words import Start
from bystander.design.studies.workloads import Workload

__all__ = ["check_floors", "read_start"]


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
