"""From a workload under an arm to the exact words, program, folder and environment of its trials."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from bystander.design import DEFAULT_OUTPUT_BYTES, Arm, Callable, Workload, fill_shell, filled_words
from bystander.errors import StudyError

__all__ = ["ReadyCommand", "ReadyWorkload", "ready_command", "ready_workload"]

_HARNESS = Path(__file__).parent / "inside" / "callable_harness.py"


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
    samples : bool
        Whether it writes samples to the file named in BYSTANDER_RESULTS.
    listens : bool
        Whether its program may tell something in the file named in BYSTANDER_MARKS.
    spans : str
        A file in its folder that holds the spans of the trial; "" for none.
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
    samples: bool = False
    listens: bool = False
    spans: str = ""


@dataclass(frozen=True)
class ReadyWorkload:
    """A workload under an arm: its command and the steps around it."""

    command: ReadyCommand
    before_all: ReadyCommand | None = None
    before_each: ReadyCommand | None = None
    after_each: ReadyCommand | None = None


def ready_workload(
    workload: Workload,
    arm: Arm,
    folder: str,
    environment: Mapping[str, str],
    stub: Mapping[str, Any] | None = None,
) -> ReadyWorkload:
    """Return the commands of a workload under an arm; raise StudyError when a program cannot be found.

    Parameters
    ----------
    stub : mapping, optional
        Niceness, affinity and address space of the timed command.
    """
    timed = _ready_callable(workload, workload.timed, arm, folder, environment) if workload.timed else None
    command = replace(
        timed or ready_command(workload, arm, folder, environment),
        output_bytes=workload.output_bytes,
        memory_bytes=workload.memory_bytes,
        exit_code_is_answer=workload.answer == "exit code",
        stub=stub or {},
        listens=True,
        spans=workload.spans,
    )
    steps = {
        name: ready_command(workload, arm, folder, environment, name, step) for name, step in workload.steps.items()
    }
    return ReadyWorkload(command, **steps)


def _ready_callable(
    workload: Workload, timed: Callable, arm: Arm, folder: str, environment: Mapping[str, str]
) -> ReadyCommand:
    """Return the command that times a callable in the arm's interpreter."""
    path = _program(timed.python, folder, environment)
    if path is None:
        looked_in = folder if "/" in timed.python else environment.get("PATH", "")
        raise StudyError(
            [
                f'workloads.{workload.base}.python: there is no program "{timed.python}" under arm {arm.name} '
                f"(looked in {looked_in}); name an interpreter that is there, or build it with arms.{arm.name}.build"
            ]
        )
    asked = {
        "call": timed.call, "given": timed.given or None, "values": json.loads(timed.values or "null"),
        "fresh": timed.fresh, "iterations": timed.iterations,
        "samples": timed.samples, "sample_s": timed.sample_s, "garbage": timed.garbage,
        "show": workload.answer == "result",
    }  # fmt: skip
    argv = (timed.python, str(_HARNESS), json.dumps(asked))
    return ReadyCommand(path, argv, folder, environment, workload.limit_s, samples=True)


def ready_command(
    workload: Workload,
    arm: Arm,
    folder: str,
    environment: Mapping[str, str],
    key: str = "command",
    template: str | None = None,
) -> ReadyCommand:
    """Return a command of a workload under an arm, the timed one by default.

    Raises
    ------
    StudyError
        When its program cannot be found; the message names the key.
    """
    template, values = template or arm.command_for(workload), workload.values(arm)
    line = ["sh", "-c", fill_shell(template, values)] if workload.shell else None
    argv = line or filled_words(template, values)
    path = _program(argv[0], folder, environment)
    if path is None:
        looked_in = folder if "/" in argv[0] else environment.get("PATH", "")
        raise StudyError(
            [
                f'workloads.{workload.base}.{key}: there is no program "{argv[0]}" under arm {arm.name} '
                f"(looked in {looked_in}); name one that is there, or build it with arms.{arm.name}.build"
            ]
        )
    return ReadyCommand(path, tuple(argv), folder, environment, workload.limit_s)


def _program(name: str, folder: str, environment: Mapping[str, str]) -> str | None:
    if "/" in name:
        path = Path(folder, name)
        return str(path) if path.is_file() and os.access(path, os.X_OK) else None
    for place in environment.get("PATH", "").split(os.pathsep):
        found = shutil.which(name, path=str(Path(folder, place)) if place else folder)
        if found:
            return found
    return None
