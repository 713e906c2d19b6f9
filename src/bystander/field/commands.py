"""From a workload under an arm to the exact words, program, folder and environment of its trials."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from bystander.design import DEFAULT_OUTPUT_BYTES, Arm, Workload, fill_shell, filled_words
from bystander.errors import StudyError

__all__ = ["ReadyCommand", "ready_command"]


@dataclass(frozen=True)
class ReadyCommand:
    """Everything that the launcher needs for a trial.

    Attributes
    ----------
    path : str
        The program's file.
    limit_s : float
        When the trial is cut, in seconds.
    output_bytes, memory_bytes : int
        The most it may print, and the most address space of each of its processes; None for any.
    stub : mapping
        Limits, niceness and affinity to set before the program; empty for none.
    """

    path: str
    argv: tuple[str, ...]
    folder: str
    environment: Mapping[str, str]
    limit_s: float
    output_bytes: int = DEFAULT_OUTPUT_BYTES
    memory_bytes: int | None = None
    exit_code_is_answer: bool = False
    stub: Mapping[str, Any] = field(default_factory=dict)


def ready_command(workload: Workload, arm: Arm, folder: str, environment: Mapping[str, str]) -> ReadyCommand:
    """Return the command of a workload under an arm; raise StudyError when its program cannot be found."""
    template, values = arm.command_for(workload), workload.values(arm)
    line = ["sh", "-c", fill_shell(template, values)] if workload.shell else None
    argv = line or filled_words(template, values)
    path = _program(argv[0], folder, environment)
    if path is None:
        raise StudyError(
            [
                f'workloads.{workload.base}.command: there is no program "{argv[0]}" under arm {arm.name} '
                f"(looked in {folder if '/' in argv[0] else environment.get('PATH', '')}); "
                "name one that is there, or build it with arms."
                f"{arm.name}.build"
            ]
        )
    return ReadyCommand(
        path=path,
        argv=tuple(argv),
        folder=folder,
        environment=environment,
        limit_s=workload.limit_s,
        output_bytes=workload.output_bytes,
        memory_bytes=workload.memory_bytes,
        exit_code_is_answer=workload.answer == "exit code",
    )


def _program(name: str, folder: str, environment: Mapping[str, str]) -> str | None:
    if "/" in name:
        path = Path(folder, name)
        return str(path) if path.is_file() and os.access(path, os.X_OK) else None
    for place in environment.get("PATH", "").split(os.pathsep):
        found = shutil.which(name, path=str(Path(folder, place)) if place else folder)
        if found:
            return found
    return None
