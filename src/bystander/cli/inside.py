"""`bystander inspect`: where the time goes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from typer.core import TyperCommand

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.given.depth import asked_closely, asked_growth, asked_slow, with_given_sizes
from bystander.cli.given.inspected import FirstOption, OrderOption, StateArmOption, StateOnlyOption, ViewOption
from bystander.cli.given.options import (
    ArchiveOption,
    JsonOption,
    MakeInputOption,
    StudyOption,
    duration_option,
    given,
    here,
    variables,
)
from bystander.cli.shown.inside.inspected import Form, say_next, show_inspected
from bystander.cli.shown.said import say
from bystander.errors import UsageError

if TYPE_CHECKING:
    from bystander.design import Study
    from bystander.flow.inside.asked import Asked
    from bystander.flow.places import StudyFolder

__all__ = ["INSPECT_EXAMPLE", "InspectCommand", "inspect"]

INSPECT_EXAMPLE = (
    "Examples: bystander inspect | bystander inspect --only gauge | bystander inspect --only gauge --arm v2 | "
    "bystander inspect -- python3 report.py | "
    "bystander inspect --call tidebook.tides:heights --given \"port='north', days=3\""
)
_COMMAND = "bystander.command"
_SHORTEST_TICK_S = 249e-6


class InspectCommand(TyperCommand):
    """Two dashes mark a command: what follows them is not read as anything of ours."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Put what follows the dashes aside."""
        if "--" in args:
            at = args.index("--")
            ctx.meta[_COMMAND] = args[at + 1 :]
            args = args[:at]
        return super().parse_args(ctx, args)


def inspect(
    context: typer.Context,
    record: Annotated[
        str | None,
        typer.Argument(
            metavar="[RECORD] | [-- COMMAND ...]", help="A record; or, behind two dashes, a command without a study."
        ),
    ] = None,
    only: StateOnlyOption = None,
    arm: StateArmOption = None,
    study: StudyOption = None,
    call: Annotated[
        str | None, typer.Option("--call", metavar="MODULE:FUNCTION", help="Look into one Python function.")
    ] = None,
    arguments: Annotated[
        str | None,
        typer.Option(
            "--given", metavar="ARGUMENTS", help="Its arguments: \"port='north', days=3\", or module:function."
        ),
    ] = None,
    make_input: MakeInputOption = None,
    order: OrderOption = None,
    first: FirstOption = None,
    everything: Annotated[bool, typer.Option("--all", help="Show every place.")] = False,
    view: ViewOption = None,
    counts: Annotated[
        bool | None,
        typer.Option("--counts/--no-counts", help="Count calls, in trials of their own; by itself for short trials."),
    ] = None,
    executions: Annotated[
        str | None,
        typer.Option("--executions", metavar="PLACE", help="Count how often each line of this function runs instead."),
    ] = None,
    by_arguments: Annotated[
        str | None,
        typer.Option(
            "--arguments", metavar="PLACE", help="Count its calls against how many distinct arguments they were given."
        ),
    ] = None,
    slow: Annotated[
        bool, typer.Option("--slow", help="Catch slow trials of one state: in which places do they differ from others?")
    ] = False,
    slower_than: Annotated[
        str | None, typer.Option("--slower-than", help='Slow is what takes longer than this: "80 ms"; with --slow.')
    ] = None,
    inputs: Annotated[
        str | None,
        typer.Option(
            "--inputs",
            metavar="NAME[=SIZES]",
            help="How seconds and calls of places grow with an input: n=100,200,400, or one of the study.",
        ),
    ] = None,
    tick: Annotated[
        str | None,
        typer.Option("--tick", help='Look once in so much CPU time, "250 us" at least; chosen by the trial\'s length.'),
    ] = None,
    trials: Annotated[
        int | None,
        typer.Option(
            "--trials", min=1, help="Watch so many trials, or blocks of both arms; by default as many as it takes."
        ),
    ] = None,
    by_hand: Annotated[
        bool, typer.Option("--by-hand", help="You drive the program in its window: one trial, without a limit.")
    ] = False,
    limit: Annotated[
        str | None, typer.Option("--limit", help='End a trial after this time, and show what was seen: "30 s".')
    ] = None,
    way: Annotated[
        str | None,
        typer.Option("--way", metavar="WORD", help="Begin with this way of looking: clock, user-clock, timer, counts."),
    ] = None,
    keep_environment: Annotated[
        list[str] | None,
        typer.Option("--keep-environment", metavar="NAME", help="Pass this variable on; may be repeated."),
    ] = None,
    resume: Annotated[
        bool, typer.Option("--resume", help="Finish an inspection of two states that was not finished.")
    ] = False,
    json: JsonOption = False,
    archive: ArchiveOption = None,
    wait: Annotated[
        bool, typer.Option("--wait", help="Wait until another observation on this machine has ended.")
    ] = False,
    quiet: Annotated[bool, typer.Option("--quiet", help="Show no progress.")] = False,
) -> None:
    """Where did it change: watch what a record shows as changed in both arms. With --arm or a command: one state."""
    from bystander.cli.shown.live import Display
    from bystander.flow.commands.inspect import Asked, comparable, inspect_recorded, inspect_study, state_of
    from bystander.flow.inside.closely import both_arms, inspect_closely
    from bystander.flow.inside.growing import inspect_growth
    from bystander.flow.leads.shown import Wanted
    from bystander.flow.places import find_archive, new_archive

    command = context.meta.get(_COMMAND)
    _refuse_contradictions(
        {"a command": command is not None, "--call": call, "--study": study, "a record": record}, only, arm, arguments,
        make_input,
    )  # fmt: skip
    if resume and (command is not None or call or study or only or arm):
        raise UsageError("--resume goes on with what was asked for then; only a record can be named with it")
    closely = asked_closely(executions, by_arguments, {
        "--order": order, "--first": first, "--all": everything, "--view": view, "--counts": counts is not None,
        "--tick": tick, "--trials": trials, "--by-hand": by_hand, "--way": way, "--resume": resume,
    })  # fmt: skip
    growth, sizes = asked_growth(inputs, trials, counts, {
        "--order": order, "--tick": tick, "--by-hand": by_hand, "--resume": resume, "--executions": executions,
        "--arguments": by_arguments,
    })  # fmt: skip
    caught = asked_slow(slow, slower_than, trials, {
        "--order": order, "--tick": tick, "--by-hand": by_hand, "--resume": resume, "--executions": executions,
        "--arguments": by_arguments, "--inputs": inputs, "--counts": counts is not None,
    })  # fmt: skip
    wanted = Wanted(tuple(only or ()), None, view, order)
    asked = Asked(_tick(tick), counts, by_hand, trials, closely, growth, caught)
    seconds = duration_option("--limit", limit)
    if by_hand and trials:
        raise UsageError("--by-hand and --trials are both given; keep the one that is meant")
    quick = command is not None or call or study or (record is None and not resume and _study_here(archive))
    if not quick and keep_environment:
        raise UsageError("--keep-environment does not apply: a record's trials get the variables that they had")
    target = Path() if quick else find_archive(archive, variables(), here())
    if growth and not quick:
        if sizes:
            raise UsageError(f"--inputs: a record has the sizes of its study; name {growth.name} alone")
        with Display(quiet) as display:
            name, whole = inspect_growth(
                target, record, variables(), display, only or (), arm, growth, way=way, wait=wait, limit_s=seconds
            )
        _shown_otherwise(target, name, asked, view, first, everything, json, whole)
        return
    if closely and not quick and arm is None and comparable(target, record):
        with Display(quiet) as display:
            both = both_arms(target, record, only or (), display)
            name, whole = inspect_closely(
                target, record, variables(), display, both, closely, wait=wait, limit_s=seconds
            )
        _shown_otherwise(target, name, asked, view, first, everything, json, whole)
        return
    if resume or (not quick and not caught and arm is None and not by_hand and comparable(target, record)):
        form = Form(wanted, first, everything, json, archive)
        _two_states(target, record, resume, asked, seconds, way, wait, quiet, form)
        return

    def seen(name: str, number: int) -> None:
        from bystander.cli.shown.console import output

        if not json and not quiet and output().is_terminal:
            show_inspected(target, name, Form(wanted, first, everything, json, archive, brief=True), number)

    with Display(quiet) as display:
        options: dict[str, Any] = {"way": way, "wait": wait, "limit_s": seconds, "seen": seen}
        if quick:
            planned, home = _planned(command, call, (arguments, make_input), study, keep_environment or [])
            if growth and sizes:
                planned = with_given_sizes(planned, growth.name, sizes, study)
            target = new_archive(archive, variables(), home)
            place = state_of(planned, None if growth else _one(only), arm, any_workload=growth is not None)
            options["only"] = tuple(only or ())
            done = inspect_study(planned, home, target, variables(), display, place, asked, **options)
        else:
            done = inspect_recorded(target, record, variables(), display, _one(only), arm, asked, **options)
    if _shown_otherwise(target, done.record, asked, view, first, everything, json, done.complete):
        return
    try:
        show_inspected(target, done.record, Form(wanted, first, everything, json, archive), done.number)
    except UsageError as error:  # interrupted before there was anything to show
        if done.complete:
            raise
        say(f"bystander: interrupted; {error}", err=True)
    if not done.complete:
        raise typer.Exit(INTERRUPTED)


def _shown_otherwise(
    target: Path, record: str, asked: Asked, view: str | None, first: int | None, everything: bool, json: bool,
    complete: bool,
) -> bool:  # fmt: skip
    """Print what was counted closely, how it grows, or slow trials; return whether it was any of these."""
    from bystander.cli.shown.inside.inspected import show_closely, show_growing, show_slow

    closely, growth = asked.closely, asked.growth
    if not (closely or growth or asked.slow):
        return False
    try:
        if closely:
            show_closely(target, record, (), None, closely.place, closely.arguments, json)
        elif growth:
            show_growing(target, record, (), view, first, everything, json)
        else:
            show_slow(target, record, (), None, view, first, everything, json)
    except UsageError as error:  # interrupted before there was anything to show
        if complete:
            raise
        say(f"bystander: interrupted; {error}", err=True)
    if not complete:
        say("bystander: interrupted; what was whole by then is kept", err=True)
        raise typer.Exit(INTERRUPTED)
    return True


def _two_states(
    target: Path, record: str | None, resume: bool, asked: Any, limit_s: float | None, way: str | None, wait: bool,
    quiet: bool, form: Form,
) -> None:  # fmt: skip
    """Watch what changed in both arms, and print each account when it is there."""
    from bystander.cli.shown.live import Display
    from bystander.design import command_line
    from bystander.flow.inside.changed import inspect_changed, resume_inspection

    repeat = given(archive=form.archive)
    with Display(quiet) as display:

        def seen(name: str, number: int) -> None:
            if not form.json:
                display.pause()
                show_inspected(target, name, replace(form, brief=True), number)

        if resume:
            done = resume_inspection(target, record, variables(), display, wait=wait, seen=seen, given=repeat)
        else:
            done = inspect_changed(
                target, record, variables(), display, form.wanted.only, asked, way=way, wait=wait, limit_s=limit_s,
                seen=seen, given=repeat,
            )  # fmt: skip
    if not done.numbers and not done.complete:
        say("bystander: interrupted before the first block; nothing is kept", err=True)
        raise typer.Exit(INTERRUPTED)
    if form.json and done.numbers:
        show_inspected(target, done.record, form, done.numbers[-1] if len(done.numbers) == 1 else None)
    elif not form.json:
        say_next(done.record, form, two=True)
    if not done.complete:
        say(f"bystander: interrupted; {command_line('inspect', '--resume', given=repeat)} goes on", err=True)
        raise typer.Exit(INTERRUPTED)


def _one(only: list[str] | None) -> str | None:
    """Return the one workload of which one state is looked into."""
    if only and len(only) > 1:
        raise UsageError("--only: one state is looked into at a time; name one workload")
    return only[0] if only else None


def _tick(text: str | None) -> float | None:
    """Return the seconds of --tick."""
    seconds = duration_option("--tick", text)
    if seconds is not None and not _SHORTEST_TICK_S <= seconds <= 1:
        raise UsageError(f'--tick: "{text}" is out of range; it must be from 250 us to 1 s')
    return seconds


def _study_here(archive: Path | None) -> bool:
    """Whether this folder has a study and no record of its own yet: then the study is meant."""
    from bystander.errors import BystanderError
    from bystander.flow.commands.records import heads
    from bystander.flow.places import STUDY_FILE, find_archive

    if not (here() / STUDY_FILE).exists():
        return False
    try:
        found = heads(find_archive(archive, variables(), here()))
        return not found or not found[-1].observed_here
    except BystanderError:
        return True


def _refuse_contradictions(
    sources: dict[str, Any], only: list[str] | None, arm: str | None, arguments: str | None, make_input: str | None
) -> None:
    """Raise UsageError when what is given does not go together."""
    named = [name for name, value in sources.items() if value]
    if len(named) > 1:
        raise UsageError(f"{named[0]} and {named[1]} are both given; keep the one that is meant")
    if named and named[0] in ("a command", "--call") and (only or arm):
        raise UsageError(
            f"{'--only' if only else '--arm'} chooses in a study or a record; with {named[0]} it does not apply"
        )
    for option, value in (("--given", arguments), ("--make-input", make_input)):
        if value is not None and not sources["--call"]:
            raise UsageError(f"{option} goes with --call")


def _planned(
    command: list[str] | None,
    call: str | None,
    arguments: tuple[str | None, str | None],
    study: Path | None,
    keep: list[str],
) -> tuple[Study, StudyFolder]:
    """Return the study that is meant, and where it lies."""
    from bystander.flow.places import load_study
    from bystander.flow.quick.studies import inspected_callable_study, one_command_study

    if command is not None:
        if not command:
            raise UsageError("-- stands before a command, and there is none")
        return one_command_study(command, here(), keep)
    if call:
        return inspected_callable_study(call, *arguments, here(), keep)
    planned, home = load_study(study, here())
    return replace(planned, keep_environment=(*planned.keep_environment, *keep)), home
