"""How each kind of workload is made ready and run; what it says in a study stands in a table of `design`."""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol

from bystander.design import Command, TimedCallable, TrialOutcome, Workload, fill_plain, filled_words
from bystander.errors import StudyError
from bystander.field.trials.commands import ReadyCommand, ReadyWorkload, Site, found_program, ready_command
from bystander.units import counted

__all__ = ["KindInField", "LaunchedRuns", "Runs", "kind_in_field", "ready_workload", "register_in_field"]

_HARNESS = Path(__file__).parents[1] / "inside" / "callable_harness.py"


class Runs(Protocol):
    """What runs a command: the launcher, or a stand-in for it."""

    output: Path
    errors: Path
    marks: Path

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Run one command to its end; what it printed is then in the file `output`, what it told in `marks`."""


class LaunchedRuns(Runs, Protocol):
    """What runs commands and holds all that they started."""

    def kill_at_once(self) -> None:
        """End all trials without a further word; the caller leaves."""


def _launched(runs: Runs, command: ReadyCommand) -> TrialOutcome:
    return runs.run(command)


@dataclass(frozen=True)
class KindInField:
    """One kind.

    Attributes
    ----------
    ready : callable
        Its timed command under an arm; raises StudyError when a program cannot be found.
    program : callable
        The program that it starts, before the arm is laid out; "" where that is not known.
    run : callable
        Runs one trial of what was made ready.
    text : callable
        What is run, in words, once it is ready.
    """

    ready: Callable[[Workload, Site], ReadyCommand]
    program: Callable[[Workload, Site], str]
    text: Callable[[Workload, ReadyCommand], str]
    run: Callable[[Runs, ReadyCommand], TrialOutcome] = _launched


def ready_workload(workload: Workload, site: Site, stub: Mapping[str, Any] | None = None) -> ReadyWorkload:
    """Return the commands of a workload under an arm; raise StudyError when a program cannot be found.

    Parameters
    ----------
    stub : mapping, optional
        Niceness, affinity and address space of the timed command.
    """
    command = replace(
        kind_in_field(workload.kind).ready(workload, site),
        output_bytes=workload.output_bytes,
        memory_bytes=workload.memory_bytes,
        exit_code_is_answer=workload.answer == "exit code",
        stub=stub or {},
        listens=True,
        spans=workload.spans,
        told=workload.told,
        numbers=workload.numbers,
        ready=_ready(workload, site),
    )
    steps = {name: ready_command(workload, site, name, step) for name, step in workload.steps.items()}
    if rule := workload.answer_rule.compare:
        steps["compare"] = ready_command(workload, site, "answer.compare", rule)
    return ReadyWorkload(command, **steps, kind=workload.kind)


def _ready(workload: Workload, site: Site) -> dict[str, Any]:
    """Return how it is seen that a trial is ready, for the launcher; raise StudyError where a port is none."""
    ready, values = workload.ready, site.arm.values_for(workload)
    if not ready.asked:
        return {}
    key = f"workloads.{workload.base}.ready"
    try:
        file, port = (fill_plain(text, values) for text in (ready.file, ready.port))
        if ready.port and not 1 <= int(port) <= 65535:
            raise ValueError
    except KeyError as error:
        raise StudyError([f"{key}: {{{error.args[0]}}} is no setting or input under arm {site.arm.name}"]) from None
    except ValueError:
        raise StudyError([f'{key}.port: "{port}" is no port under arm {site.arm.name}']) from None
    if ready.file and not file:
        raise StudyError([f"{key}.file: it names no file under arm {site.arm.name}"])
    where = {"file": str(Path(site.folder, file))} if file else {"port": int(port)} if port else {}
    return {"end": ready.end, **({"pattern": ready.pattern} if ready.pattern else where)}


def _program_of_command(workload: Workload, site: Site) -> str:
    if isinstance(workload.what, Command) and workload.what.shell:
        return "sh"
    return filled_words(site.arm.command_for(workload), site.arm.values_for(workload))[0]


def _text_of_command(_workload: Workload, command: ReadyCommand) -> str:
    return shlex.join([command.path, *command.argv[1:]])


def _callable(workload: Workload) -> TimedCallable:
    assert isinstance(workload.what, TimedCallable)
    return workload.what


def _ready_callable(workload: Workload, site: Site) -> ReadyCommand:
    """Return the command that times a callable in the arm's interpreter."""
    timed = _callable(workload)
    path = found_program(timed.python, workload, site, "python", "name an interpreter that is there")
    asked = {
        "call": site.arm.command_for(workload) or timed.call,
        "given": timed.given or None, "values": json.loads(timed.values or "null"),
        "fresh": timed.fresh, "iterations": timed.iterations,
        "samples": timed.samples, "sample_s": timed.sample_s, "garbage": timed.garbage,
        "show": workload.answer == "result",
    }  # fmt: skip
    argv = (timed.python, str(_HARNESS), json.dumps(asked))
    return ReadyCommand(path, argv, site.folder, site.environment, workload.limit_s, samples=True)


def _text_of_callable(workload: Workload, command: ReadyCommand) -> str:
    timed = _callable(workload)
    samples = f", {counted(timed.iterations, 'iteration')} a sample" if timed.iterations else ""
    return f"{json.loads(command.argv[-1])['call']} in {command.path}{samples}"


_KINDS: dict[str, KindInField] = {
    Command.kind: KindInField(ready_command, _program_of_command, _text_of_command),
    TimedCallable.kind: KindInField(_ready_callable, lambda workload, _: _callable(workload).python, _text_of_callable),
}


def register_in_field(name: str, kind: KindInField) -> None:
    """Add how a kind is made ready and run."""
    _KINDS[name] = kind


def kind_in_field(name: str) -> KindInField:
    """Return how a kind is made ready and run."""
    return _KINDS[name]
