"""`bystander observe`."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.gate import GateAlsoOption, GateOption, gate_code
from bystander.cli.options import (
    ArchiveOption,
    DropCachesOption,
    OnlyOption,
    PlaceboOption,
    StudyOption,
    duration_option,
    here,
    share_option,
    variables,
    whole_option,
)
from bystander.cli.options import given as given_again
from bystander.cli.shown.said import say
from bystander.errors import NoSpaceError, UsageError

if TYPE_CHECKING:
    from bystander.design import Study
    from bystander.flow.places import StudyFolder

__all__ = ["EXAMPLE", "observe"]

EXAMPLE = (
    "Examples: bystander observe | bystander observe -- python3 report.py | "
    "bystander observe --arm before='python3 old.py' --arm after='python3 new.py'"
)


def observe(
    command: Annotated[
        list[str] | None,
        typer.Argument(metavar="[-- COMMAND ...]", help="Time this one command now, without a study."),
    ] = None,
    study: StudyOption = None,
    arm: Annotated[
        list[str] | None,
        typer.Option(
            "--arm",
            metavar="NAME=COMMAND",
            help="Compare commands without a study; the first is the reference.",
        ),
    ] = None,
    blocks: Annotated[
        int | None, typer.Option("--blocks", help="Run at most so many blocks of each workload.", min=1)
    ] = None,
    fixed: Annotated[
        int | None, typer.Option("--fixed", help="Run exactly so many blocks, and stop no workload earlier.", min=1)
    ] = None,
    strict: Annotated[
        bool, typer.Option("--strict", help="Stop early by levels that hold however the looks depend on each other.")
    ] = False,
    budget: Annotated[
        str | None,
        typer.Option("--budget", help='Set the most blocks, once and before the start, to fit in this time: "10 min".'),
    ] = None,
    seed: Annotated[
        int | None, typer.Option("--seed", help="Decide the order of trials by this number.", min=0)
    ] = None,
    keep_environment: Annotated[
        list[str] | None,
        typer.Option(
            "--keep-environment", metavar="NAME", help="Pass this variable on to the trials; may be repeated."
        ),
    ] = None,
    number: Annotated[
        list[str] | None,
        typer.Option(
            "--number", metavar="NAME=PATTERN", help="Read a number that the command prints, as one more measure."
        ),
    ] = None,
    only: OnlyOption = None,
    margin: Annotated[
        str | None, typer.Option("--margin", help='The smallest change that matters, for example "2 %".')
    ] = None,
    placebo: PlaceboOption = False,
    drop_caches: DropCachesOption = False,
    resume: Annotated[
        bool,
        typer.Option(
            "--resume", help="Finish a record that was interrupted: --resume [RECORD], the newest by default."
        ),
    ] = False,
    elsewhere: Annotated[
        bool, typer.Option("--elsewhere", help="Resume although this is another boot or machine; it is noted.")
    ] = False,
    archive: ArchiveOption = None,
    gate: GateOption = None,
    gate_also: GateAlsoOption = None,
    wait: Annotated[
        bool, typer.Option("--wait", help="Wait until another observation on this machine has ended.")
    ] = False,
    quiet: Annotated[bool, typer.Option("--quiet", help="Show no progress.")] = False,
) -> None:
    """Run the trials of a study into a record; or time one command now, or compare two, without a study."""
    from bystander.cli.decide import show
    from bystander.cli.shown.live import Display
    from bystander.design import StoppingRule, command_line, with_placebo
    from bystander.flow.commands.decide import decided
    from bystander.flow.commands.observe import observe as run
    from bystander.flow.commands.observe import resume as finish
    from bystander.flow.commands.quick import with_numbers
    from bystander.flow.places import find_archive, new_archive
    from bystander.verdicts import gate_ask, gate_words, refuse_gate

    given = {
        "a command": command, "--study": study, "--arm": arm, "--blocks": blocks, "--seed": seed, "--only": only,
        "--margin": margin, "--number": number, "--keep-environment": keep_environment, "--placebo": placebo,
        "--budget": budget,
        "--drop-caches": drop_caches, "--fixed": fixed, "--strict": strict,
    }  # fmt: skip
    _refuse_contradictions({name for name, value in given.items() if value}, command, resume, elsewhere)
    share, seconds = share_option("--margin", margin), duration_option("--budget", budget)
    most = whole_option("--fixed", fixed, "blocks") or whole_option("--blocks", blocks, "blocks")
    seed = whole_option("--seed", seed, "seed")
    words = None if gate is None else gate_words(gate)
    with Display(quiet) as display, _resumable(archive):
        if resume:
            target = find_archive(archive, variables(), here())
            name = command[0] if command else None
            result = finish(target, name, variables(), display, elsewhere=elsewhere, wait=wait)
        else:
            if number and not (command or arm):
                raise UsageError("--number is for a command or --arm; a study names them in workloads.NAME.numbers")
            planned, home = _planned(command, arm, study, keep_environment or [], only or [], archive)
            planned = with_numbers(planned, number or [])
            planned = replace(
                with_placebo(planned) if placebo else planned,
                blocks=most or planned.blocks,
                stopping=StoppingRule.FIXED if fixed else StoppingRule.STRICT if strict else planned.stopping,
                seed=planned.seed if seed is None else seed,
                margin=share or planned.margin,
                drop_caches=drop_caches,
            )
            if words is not None:
                refuse_gate(gate_ask(words, planned, gate_also), planned)
            target = new_archive(archive, variables(), home)
            result = run(planned, home, target, variables(), display, budget_s=seconds, wait=wait)
    code = 0
    if result.record:
        again = given_again(None if command or arm or resume else study, archive, None)
        decision, finding = decided(target, result.record, words=gate, also=gate_also, given=again)
        show(decision)
        code = gate_code(finding) if finding and result.complete else 0
    if not result.complete:
        said = "interrupted; nothing was recorded"
        if result.record:
            finishes = command_line("observe", "--resume", result.record, given=given_again(archive=archive))
            said = f"interrupted; record {result.record} is unfinished. This finishes it:\n  {finishes}"
        say(f"bystander: {said}", err=True)
        raise typer.Exit(INTERRUPTED)
    if code:
        raise typer.Exit(code)


@contextmanager
def _resumable(archive: Path | None) -> Iterator[None]:
    """Say how a record goes on that ended for want of space."""
    from bystander.design import command_line

    try:
        yield
    except NoSpaceError as error:
        if not error.record:
            raise
        finishes = command_line("observe", "--resume", error.record, given=given_again(archive=archive))
        raise NoSpaceError(f"{error}; make room, then {finishes}") from None


# Options that mean two different things.
_CONTRADICTIONS = (
    ("a command", "--arm"), ("a command", "--study"), ("--arm", "--study"), ("--blocks", "--budget"),
    ("--fixed", "--blocks"), ("--fixed", "--budget"), ("--fixed", "--strict"),
)  # fmt: skip


def _refuse_contradictions(given: set[str], command: list[str] | None, resume: bool, elsewhere: bool) -> None:
    """Raise UsageError when the options given do not go together."""
    if elsewhere and not resume:
        raise UsageError("--elsewhere goes with --resume")
    if resume:  # what stands where a command would is the record's name
        others = sorted(given if len(command or []) > 1 else given - {"a command"})
        if others:
            raise UsageError(f"--resume finishes a plan as it is; {others[0]} does not apply")
        return
    for first, second in _CONTRADICTIONS:
        if {first, second} <= given:
            raise UsageError(f"{first} and {second} are both given; keep the one that is meant")
    if "--only" in given and given & {"a command", "--arm"}:
        raise UsageError("--only chooses workloads of a study; without one it does not apply")


def _planned(
    command: list[str] | None,
    arm: list[str] | None,
    study: Path | None,
    keep: list[str],
    only: list[str],
    archive: Path | None,
) -> tuple[Study, StudyFolder]:
    """Return the study that is meant, and where it lies."""
    from bystander.design import with_only
    from bystander.flow.commands.quick import commands_study, one_command_study
    from bystander.flow.places import load_study
    from bystander.flow.sessions.early_ends import noted

    if command:
        return one_command_study(command, here(), keep)
    if arm:
        return commands_study(arm, here(), keep)
    with noted(archive, variables(), here()):
        planned, home = load_study(study, here())
    return with_only(replace(planned, keep_environment=(*planned.keep_environment, *keep)), only), home
