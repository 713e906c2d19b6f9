"""Observations without a study: a command or a callable as it is now, or some of them side by side."""

from __future__ import annotations

import json
import os
import shlex
import stat
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from bystander.design import (
    DEFAULT_BLOCKS,
    DEFAULT_LIMIT_S,
    ONE_ARM_BLOCKS,
    UNTIL_READY,
    Arm,
    Command,
    Start,
    StoppingRule,
    Study,
    TimedCallable,
    Workload,
    braced,
    printed_number,
    quick_callable,
    ready_option,
    workload_name,
)
from bystander.errors import UsageError
from bystander.field import StudyFolder

_SAMPLES = 10  # of a trial: a quick answer needs more trials rather than longer ones
_SAMPLE_S = 0.5  # of a callable that is looked into: a trial takes one sample

NOW = "now"

__all__ = [
    "Quick",
    "compared_command_study",
    "inspected_callable_study",
    "one_command_study",
    "path_of",
    "quick_study",
    "with_numbers",
    "with_sizes",
]


@dataclass(frozen=True)
class Quick:
    """What is to be observed without a study, as it is typed: a command, some commands, or some callables.

    Attributes
    ----------
    command : tuple of str
        Words.
    arms, calls : tuple of str
        As NAME=COMMAND and NAME=module:function; one callable may stand without a name.
    given : str or None
        Arguments of the callables, as a call of Python has them.
    make_input : str or None
        A function that makes them instead, as module:function.
    build, keep, numbers : tuple of str
        Build steps; names of variables; what is printed, as NAME=PATTERN.
    ready : str or None
        A pattern: a trial that prints it is ready.
    end_at_ready : bool
        Whether a trial ends there.
    """

    command: tuple[str, ...] = ()
    arms: tuple[str, ...] = ()
    calls: tuple[str, ...] = ()
    given: str | None = None
    make_input: str | None = None
    build: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    numbers: tuple[str, ...] = ()
    ready: str | None = None
    end_at_ready: bool = False

    def __bool__(self) -> bool:
        """Whether anything is to be observed without a study."""
        return bool(self.command or self.arms or self.calls)


def quick_study(quick: Quick, here: Path) -> tuple[Study, StudyFolder]:
    """Return the study of what is given without one, in the folder as it stands."""
    if not quick.calls:
        _refuse_input(quick)
    if quick.calls:
        study = _callables(quick, here)
    elif quick.arms:
        study = _commands(quick)
    else:
        study = _one_command(quick.command)
    several = len(study.arms) > 1
    study = replace(
        study,
        arms=tuple(replace(arm, build=quick.build) for arm in study.arms),
        blocks=DEFAULT_BLOCKS if several else ONE_ARM_BLOCKS,
        stopping=StoppingRule.LOOKS if several else study.stopping,
        keep_environment=quick.keep,
    )
    return _with_ready(with_numbers(study, quick.numbers), quick), StudyFolder(here)


def _refuse_input(quick: Quick) -> None:
    """Raise UsageError where this program was given a file or a pipe to read: trials read nothing."""
    try:
        state = os.fstat(0)
    except OSError:
        return
    is_file = stat.S_ISREG(state.st_mode)
    if (not is_file and not stat.S_ISFIFO(state.st_mode)) or (is_file and not state.st_size):
        return
    named = os.path.relpath(Path("/proc/self/fd/0").readlink()) if is_file else ""
    words = quick.command or shlex.split(quick.arms[0].partition("=")[2])
    line = f"{shlex.join(words)} < {shlex.quote(named or 'FILE')}"
    example = f"-- sh -c {shlex.quote(line)}" if quick.command else f'--arm NAME="sh -c {shlex.quote(line)}"'
    raise UsageError(
        f"trials read nothing from standard input, and it is {named or 'a pipe'} here; give each trial the file: "
        f"{example} (where nothing is meant to be read: < /dev/null)"
    )


def one_command_study(words: Sequence[str], here: Path, keep: Sequence[str] = ()) -> tuple[Study, StudyFolder]:
    """Return the study of one command under one arm, "now", in the folder as it stands."""
    return quick_study(Quick(tuple(words), keep=tuple(keep)), here)


def compared_command_study(words: Sequence[str], here: Path) -> tuple[Study, StudyFolder]:
    """Return the study of one command that runs in several states: what it prints is compared where it repeats."""
    study, home = one_command_study(words, here)
    return replace(study, workloads=tuple(replace(one, answer="output") for one in study.workloads)), home


def _one_command(words: Sequence[str]) -> Study:
    text = braced(shlex.join(words))
    name = Path(words[0]).name or "command"
    workload = Workload(name, name, Command(text), limit_s=DEFAULT_LIMIT_S)
    return Study(name=f"{name} now", arms=(Arm(NOW, in_place=True),), workloads=(workload,))


def _named(texts: Sequence[str], option: str, what: str, example: str) -> dict[str, str]:
    """Return what stands behind the names in texts such as NAME=COMMAND."""
    found: dict[str, str] = {}
    for text in texts:
        name, equals, said = text.partition("=")
        if not equals or not name.strip() or not said.strip():
            raise UsageError(f'{option}: "{text}" is no {what}; write for example {option} {example}')
        if name in found:
            raise UsageError(f'{option}: the name "{name}" stands twice; each arm needs its own')
        found[name] = said
    return found


def _commands(quick: Quick) -> Study:
    """Return the study of commands given as NAME=COMMAND; the first is the reference."""
    made: list[Arm] = []
    for name, command in _named(quick.arms, "--arm", "arm", "before='python old.py'").items():
        try:
            if not shlex.split(command):
                raise ValueError
        except ValueError:
            raise UsageError(f"--arm: the command of {name} has a quote that is never closed") from None
        made.append(Arm(name, command={"": braced(command)}, in_place=True))
    # What they print is compared where it is the same in every trial.
    workload = Workload("command", "command", Command(""), limit_s=DEFAULT_LIMIT_S, answer="output")
    return Study(name=" and ".join(arm.name for arm in made), arms=tuple(made), workloads=(workload,))


def _callables(quick: Quick, here: Path) -> Study:
    """Return the study of one callable as it is now, or of some, of which the first is the reference."""
    alone = len(quick.calls) == 1 and "=" not in quick.calls[0]
    example = "new=tidebook.tides:heights"
    named = {NOW: quick.calls[0]} if alone else _named(quick.calls, "--call", "NAME=module:function", example)
    timed = [quick_callable(call, quick.given, quick.make_input) for call in named.values()]
    timed = [replace(one, samples=_SAMPLES) for one in timed]
    name = timed[0].call.partition(":")[2]
    # Of one alone the result is kept, too: held against it is what it returns after an edit.
    workload = Workload(name, name, timed[0], limit_s=DEFAULT_LIMIT_S, answer="result", start=Start.IN_PROCESS)
    arms = tuple(
        Arm(arm, command={} if alone else {"": one.call}, in_place=True, environment=path_of(one.call, here))
        for arm, one in zip(named, timed, strict=True)
    )
    title = f"{name} now" if alone else f"{name}: {' and '.join(named)}"
    return Study(name=title, arms=arms, workloads=(workload,))


def path_of(call: str, here: Path) -> dict[str, str]:
    """Return the variable by which a package that lies in `src` is found; trials run in the folder above."""
    top = call.partition(":")[0].partition(".")[0]

    def lies_in(folder: Path) -> bool:
        return (folder / top).is_dir() or (folder / f"{top}.py").is_file()

    return {"PYTHONPATH": "src"} if lies_in(here / "src") and not lies_in(here) else {}


def inspected_callable_study(
    call: str, given: str | None, make_input: str | None, here: Path, keep: Sequence[str] = ()
) -> tuple[Study, StudyFolder]:
    """Return the study of one callable that is looked into: a trial takes one sample.

    Parameters
    ----------
    call : str
        As module:function.
    given : str or None
        Its arguments as in a call of Python, or a function that makes them, as module:function.
    make_input : str or None
        Such a function.
    """
    if "=" in call:
        raise UsageError(f'--call: "{call}" names an arm; write for example --call tidebook.tides:level')
    study, home = quick_study(Quick(calls=(call,), given=given, make_input=make_input, keep=tuple(keep)), here)
    (workload,) = study.workloads
    assert isinstance(workload.what, TimedCallable)
    looked_into = replace(workload.what, sample_s=_SAMPLE_S, samples=1)
    return replace(study, workloads=(replace(workload, what=looked_into),)), home


def with_sizes(study: Study, name: str, values: Sequence[str]) -> Study:
    """Return a study without a file whose workload runs at each value of an input: {name}, or an argument of that name.

    Raises
    ------
    UsageError
        When the command does not use it, or a value is no number.
    """
    (workload,) = study.workloads
    made = []
    for text in values:
        try:
            value = json.loads(text)
        except ValueError:
            value = None
        if not isinstance(value, int | float) or isinstance(value, bool):
            raise UsageError(f'--inputs: "{text}" is no number; write for example --inputs n=100,200,400')
        inputs = {name: text}
        what = workload.what
        if isinstance(what, Command):
            template = what.template.replace(f"{{{{{name}}}}}", f"{{{name}}}")
            if template == what.template:
                raise UsageError(f"--inputs: the command does not use {name}; write {{{name}}} where it belongs")
            what = replace(what, template=template)
        elif isinstance(what, TimedCallable):
            given = json.loads(what.values or "{}")
            if not isinstance(given, dict) or name in given:
                raise UsageError(f"--inputs: --given names all arguments but {name}, which comes from --inputs")
            what = replace(what, values=json.dumps({**given, name: value}))
        made.append(replace(workload, name=workload_name(workload.base, inputs), inputs=inputs, what=what))
    return replace(study, workloads=tuple(made))


def _with_ready(study: Study, quick: Quick) -> Study:
    """Return a study of which each trial is ready once it prints something: that is what is decided on."""
    if quick.ready is None:
        return study
    ready = ready_option(quick.ready, quick.end_at_ready)
    workloads = tuple(replace(one, ready=ready) for one in study.workloads)
    return replace(study, workloads=workloads, measure=UNTIL_READY)


def with_numbers(study: Study, texts: Sequence[str]) -> Study:
    """Return a study whose every workload also has numbers that it prints, given as NAME=PATTERN."""
    found = [printed_number(text) for text in texts]
    names = [name for name, _ in found]
    if len(set(names)) < len(names):
        raise UsageError(f'--number: the name "{next(n for n in names if names.count(n) > 1)}" stands twice')
    if not found:
        return study
    return replace(study, workloads=tuple(replace(one, numbers=dict(found)) for one in study.workloads))
