"""From a command under an arm to the exact words, program, folder and environment of its trials."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from bystander.design import (
    DEFAULT_LIMIT_S,
    DEFAULT_OUTPUT_BYTES,
    Arm,
    Command,
    PrintedNumber,
    ToldLimits,
    Workload,
    fill_plain,
    fill_shell,
    filled_words,
)
from bystander.errors import StudyError

__all__ = ["ReadyCommand", "ReadyWorkload", "Site", "found_program", "ready_command", "ready_step"]


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
    told : ToldLimits
        The most that it may tell in marks and spans.
    numbers : mapping
        What it prints that is a measure, by name.
    ready : mapping
        How the launcher sees that it is ready: one of pattern, file and port, and whether it ends there.
    secrets : tuple of str
        Values that are masked in what is kept of its output.
    input : str
        The file that is its standard input; "" for none.
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
    told: ToldLimits = field(default_factory=ToldLimits)
    numbers: Mapping[str, PrintedNumber] = field(default_factory=dict)
    ready: Mapping[str, Any] = field(default_factory=dict)
    secrets: tuple[str, ...] = ()
    input: str = ""


@dataclass(frozen=True)
class Site:
    """An arm where it lies.

    Attributes
    ----------
    folder : str
        The working directory of its trials.
    environment : mapping
        The variables of its trials.
    """

    arm: Arm
    folder: str
    environment: Mapping[str, str]


@dataclass(frozen=True)
class ReadyWorkload:
    """A workload under an arm: its command and the steps around it, and of which kind it is."""

    command: ReadyCommand
    before_all: ReadyCommand | None = None
    before_each: ReadyCommand | None = None
    after_each: ReadyCommand | None = None
    compare: ReadyCommand | None = None  # of two answers, whose paths stand for {reference} and {candidate}
    kind: str = "command"

    def masking(self, values: Iterable[str]) -> ReadyWorkload:
        """Return the same, with values that are masked in what is kept of its output."""
        secrets = tuple(values)
        steps = {name: getattr(self, name) for name in ("before_all", "before_each", "after_each", "compare")}
        hidden = {name: step and replace(step, secrets=secrets) for name, step in steps.items()}
        return replace(self, command=replace(self.command, secrets=secrets), **hidden)


_PATHS_OF_ANSWERS = {name: f"{{{name}}}" for name in ("reference", "candidate")}  # filled when there are answers


def ready_command(workload: Workload, site: Site, key: str = "command", template: str | None = None) -> ReadyCommand:
    """Return a command of a workload under an arm, the timed one by default.

    Raises
    ------
    StudyError
        When its program cannot be found; the message names the key.
    """
    template, values = template or site.arm.command_for(workload), site.arm.values_for(workload)
    if key == "answer.compare":
        values |= _PATHS_OF_ANSWERS
    shell = isinstance(workload.what, Command) and workload.what.shell
    argv = ["sh", "-c", fill_shell(template, values)] if shell else filled_words(template, values)
    path = found_program(argv[0], workload, site, key, "name one that is there")
    given = _input(workload, site) if key == "command" else ""
    return ReadyCommand(path, tuple(argv), site.folder, site.environment, workload.limit_s, input=given)


def _input(workload: Workload, site: Site) -> str:
    """Return the file that is a command's standard input, "" for none; raise StudyError where there is no such file."""
    if not isinstance(workload.what, Command) or not workload.what.input:
        return ""
    path = Path(site.folder, fill_plain(workload.what.input, site.arm.values_for(workload)))
    if not path.is_file() or not os.access(path, os.R_OK):
        raise StudyError(
            [f'workloads.{workload.base}.input: there is no file "{path.name}" under arm {site.arm.name} ({path})']
        )
    return str(path)


def ready_step(template: str, site: Site, key: str, secrets: Iterable[str] = ()) -> ReadyCommand:
    """Return a command of an arm that belongs to no workload; raise StudyError when its program cannot be found."""
    argv = filled_words(template, site.arm.filled)
    path = _program(argv[0], site.folder, site.environment)
    if path is None:
        raise StudyError([f'arms.{site.arm.name}.{key}: there is no program "{argv[0]}" (looked in {site.folder})'])
    return ReadyCommand(path, tuple(argv), site.folder, site.environment, DEFAULT_LIMIT_S, secrets=tuple(secrets))


def found_program(name: str, workload: Workload, site: Site, key: str, mend: str) -> str:
    """Return the file of a program under an arm; raise StudyError where there is none, with the key and the mend."""
    path = _program(name, site.folder, site.environment)
    if path is None:
        looked_in = site.folder if "/" in name else site.environment.get("PATH", "")
        raise StudyError(
            [
                f'workloads.{workload.base}.{key}: there is no program "{name}" under arm {site.arm.name} '
                f"(looked in {looked_in}); {mend}, or build it with arms.{site.arm.name}.build"
            ]
        )
    return path


def _program(name: str, folder: str, environment: Mapping[str, str]) -> str | None:
    if "/" in name:
        path = Path(folder, name)
        return str(path) if path.is_file() and os.access(path, os.X_OK) else None
    for place in environment.get("PATH", "").split(os.pathsep):
        found = shutil.which(name, path=str(Path(folder, place)) if place else folder)
        if found:
            return found
    return None
