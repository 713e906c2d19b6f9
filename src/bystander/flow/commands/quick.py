"""Observations without a study: one command as it is now, or two side by side."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from bystander.design import (
    DEFAULT_BLOCKS,
    DEFAULT_LIMIT_S,
    ONE_ARM_BLOCKS,
    Arm,
    Command,
    Start,
    StoppingRule,
    Study,
    Workload,
    printed_number,
    quick_callable,
)
from bystander.errors import UsageError
from bystander.field import StudyFolder

_SAMPLE_S = 0.5  # of a callable that is looked into: a trial takes one sample

__all__ = ["callable_study", "commands_study", "one_command_study", "with_numbers"]


def one_command_study(words: Sequence[str], here: Path, keep: Sequence[str] = ()) -> tuple[Study, StudyFolder]:
    """Return the study of one command under one arm, "now", in the folder as it stands."""
    text = shlex.join(words).replace("{", "{{").replace("}", "}}")
    name = Path(words[0]).name or "command"
    workload = Workload(name, name, Command(text), limit_s=DEFAULT_LIMIT_S)
    study = Study(
        name=f"{name} now",
        arms=(Arm("now", in_place=True),),
        workloads=(workload,),
        blocks=ONE_ARM_BLOCKS,
        keep_environment=tuple(keep),
    )
    return study, StudyFolder(here)


def commands_study(arms: Sequence[str], here: Path, keep: Sequence[str] = ()) -> tuple[Study, StudyFolder]:
    """Return the study of commands given as NAME=COMMAND; the first is the reference."""
    made: list[Arm] = []
    for text in arms:
        name, equals, command = text.partition("=")
        if not equals or not name.strip() or not command.strip():
            raise UsageError(f"--arm: \"{text}\" is no arm; write for example --arm before='python old.py'")
        if name in [arm.name for arm in made]:
            raise UsageError(f'--arm: the name "{name}" stands twice; each arm needs its own')
        try:
            if not shlex.split(command):
                raise ValueError
        except ValueError:
            raise UsageError(f"--arm: the command of {name} has a quote that is never closed") from None
        plain = command.replace("{", "{{").replace("}", "}}")
        made.append(Arm(name, command={"": plain}, in_place=True))
    study = Study(
        name=" and ".join(arm.name for arm in made),
        arms=tuple(made),
        workloads=(Workload("command", "command", Command(""), limit_s=DEFAULT_LIMIT_S),),
        blocks=DEFAULT_BLOCKS if len(made) > 1 else ONE_ARM_BLOCKS,
        stopping=StoppingRule.LOOKS,
        keep_environment=tuple(keep),
    )
    return study, StudyFolder(here)


def callable_study(call: str, given: str | None, here: Path, keep: Sequence[str] = ()) -> tuple[Study, StudyFolder]:
    """Return the study of one callable under one arm, "now", in the folder as it stands.

    Parameters
    ----------
    call : str
        As module:function.
    given : str or None
        Its arguments as in a call of Python, or a function that makes them, as module:function.
    """
    timed = replace(quick_callable(call, given), sample_s=_SAMPLE_S, samples=1)
    name = call.partition(":")[2]
    workload = Workload(name, name, timed, limit_s=DEFAULT_LIMIT_S, start=Start.IN_PROCESS)
    study = Study(
        name=f"{call} now", arms=(Arm("now", in_place=True),), workloads=(workload,),
        blocks=ONE_ARM_BLOCKS, keep_environment=tuple(keep),
    )  # fmt: skip
    return study, StudyFolder(here)


def with_numbers(study: Study, texts: Sequence[str]) -> Study:
    """Return a study whose every workload also has numbers that it prints, given as NAME=PATTERN."""
    found = [printed_number(text) for text in texts]
    names = [name for name, _ in found]
    if len(set(names)) < len(names):
        raise UsageError(f'--number: the name "{next(n for n in names if names.count(n) > 1)}" stands twice')
    if not found:
        return study
    return replace(study, workloads=tuple(replace(one, numbers=dict(found)) for one in study.workloads))
