"""`bystander inspect` and `bystander leads`: where the time goes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from typer.core import TyperCommand

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.given.options import (
    ArchiveOption,
    JsonOption,
    SpreadsheetOption,
    StudyOption,
    duration_option,
    given,
    here,
    variables,
)
from bystander.cli.shown.said import hand_over, say
from bystander.errors import UsageError
from bystander.files import write_whole

if TYPE_CHECKING:
    from bystander.design import Study
    from bystander.flow.commands.leads import Wanted
    from bystander.flow.places import StudyFolder

__all__ = ["INSPECT_EXAMPLE", "LEADS_EXAMPLE", "InspectCommand", "inspect", "leads"]

INSPECT_EXAMPLE = (
    "Examples: bystander inspect | bystander inspect --only gauge | bystander inspect --only gauge --arm v2 | "
    "bystander inspect -- python3 report.py | "
    "bystander inspect --call tidebook.tides:heights --given \"port='north', days=3\""
)
LEADS_EXAMPLE = (
    "Examples: bystander leads | bystander leads --only gauge --order calls | bystander leads --arm v2 --order alone | "
    "bystander leads --to places.csv"
)
_COMMAND = "bystander.command"
_SHORTEST_TICK_S = 249e-6

OrderOption = Annotated[
    str | None,
    typer.Option("--order", metavar="WORD", help="The largest first by: change, whole, alone, calls or per-call."),
]
FirstOption = Annotated[int | None, typer.Option("--first", min=1, help="Show so many places; 15 by default.")]
ViewOption = Annotated[
    str | None,
    typer.Option(
        "--view",
        metavar="WORD",
        help="Time that is shown: elapsed (of the main thread), processor or waiting (of all).",
    ),
]
StateOnlyOption = Annotated[
    list[str] | None,
    typer.Option("--only", metavar="WORKLOAD", help="These workloads; may be repeated, * stands for any letters."),
]
StateArmOption = Annotated[
    str | None, typer.Option("--arm", help="One state alone; by default both arms of a comparison side by side.")
]
RecordInspected = Annotated[
    str | None, typer.Argument(help="A record, or one inspection such as tides-3/inspected-2; the newest by default.")
]


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
    order: OrderOption = None,
    first: FirstOption = None,
    everything: Annotated[bool, typer.Option("--all", help="Show every place.")] = False,
    view: ViewOption = None,
    counts: Annotated[
        bool | None,
        typer.Option("--counts/--no-counts", help="Count calls, in trials of their own; by itself for short trials."),
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
    from bystander.flow.commands.leads import Wanted
    from bystander.flow.places import find_archive, new_archive

    command = context.meta.get(_COMMAND)
    _refuse_contradictions(
        {"a command": command is not None, "--call": call, "--study": study, "a record": record}, only, arm, arguments
    )
    if resume and (command is not None or call or study or only or arm):
        raise UsageError("--resume goes on with what was asked for then; only a record can be named with it")
    wanted = Wanted(tuple(only or ()), None, view, order)
    asked = Asked(_tick(tick), counts, by_hand, trials)
    seconds = duration_option("--limit", limit)
    if by_hand and trials:
        raise UsageError("--by-hand and --trials are both given; keep the one that is meant")
    quick = command is not None or call or study or (record is None and not resume and _study_here(archive))
    if not quick and keep_environment:
        raise UsageError("--keep-environment does not apply: a record's trials get the variables that they had")
    target = Path() if quick else find_archive(archive, variables(), here())
    if resume or (not quick and arm is None and not by_hand and comparable(target, record)):
        form = _Form(wanted, first, everything, json, archive)
        _two_states(target, record, resume, asked, seconds, way, wait, quiet, form)
        return

    def seen(name: str, number: int) -> None:
        from bystander.cli.shown.console import output

        if not json and not quiet and output().is_terminal:
            _show(target, name, _Form(wanted, first, everything, json, archive, brief=True), number)

    with Display(quiet) as display:
        options: dict[str, Any] = {"way": way, "wait": wait, "limit_s": seconds, "seen": seen}
        if quick:
            planned, home = _planned(command, call, arguments, study, keep_environment or [])
            target = new_archive(archive, variables(), home)
            place = state_of(planned, _one(only), arm)
            done = inspect_study(planned, home, target, variables(), display, place, asked, **options)
        else:
            done = inspect_recorded(target, record, variables(), display, _one(only), arm, asked, **options)
    try:
        _show(target, done.record, _Form(wanted, first, everything, json, archive), done.number)
    except UsageError as error:  # interrupted before there was anything to show
        if done.complete:
            raise
        say(f"bystander: interrupted; {error}", err=True)
    if not done.complete:
        raise typer.Exit(INTERRUPTED)


def leads(
    record: RecordInspected = None,
    only: StateOnlyOption = None,
    arm: StateArmOption = None,
    order: OrderOption = None,
    first: FirstOption = None,
    everything: Annotated[bool, typer.Option("--all", help="Show every place.")] = False,
    view: ViewOption = None,
    to: Annotated[
        list[Path] | None,
        typer.Option("--to", help="Write a file instead: .csv, one row a place or path; or .json. Repeatable."),
    ] = None,
    spreadsheet: SpreadsheetOption = False,
    json: JsonOption = False,
    archive: ArchiveOption = None,
) -> None:
    """Show where it changed, or where the time of one state went, from what is kept. Nothing is run."""
    from bystander.flow.commands.leads import Wanted
    from bystander.flow.places import find_archive

    target = find_archive(archive, variables(), here())
    wanted = Wanted(tuple(only or ()), arm, view, order)
    if to:
        _write(target, record, wanted, to, spreadsheet)
        return
    if spreadsheet:
        raise UsageError("--spreadsheet goes with --to FILE.csv")
    _show(target, record, _Form(wanted, first, everything, json, archive))


def _write(target: Path, record: str | None, wanted: Wanted, to: list[Path], spreadsheet: bool = False) -> None:
    from bystander.flow.commands.leads import leads_file

    texts = [leads_file(target, record, wanted, file.suffix.lower(), spreadsheet) for file in to]
    for file, text in zip(to, texts, strict=True):
        write_whole(file, text)
        say(f"{file} is written.")


@dataclass(frozen=True)
class _Form:
    """What is shown and how; what is brief is followed by more soon."""

    wanted: Wanted
    first: int | None
    everything: bool
    json: bool
    archive: Path | None
    brief: bool = False


def _two_states(
    target: Path, record: str | None, resume: bool, asked: Any, limit_s: float | None, way: str | None, wait: bool,
    quiet: bool, form: _Form,
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
                _show(target, name, replace(form, brief=True), number)

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
        _show(target, done.record, form, done.numbers[-1] if len(done.numbers) == 1 else None)
    elif not form.json:
        _next(done.record, form, two=True)
    if not done.complete:
        say(f"bystander: interrupted; {command_line('inspect', '--resume', given=repeat)} goes on", err=True)
        raise typer.Exit(INTERRUPTED)


def _show(target: Path, record: str | None, form: _Form, number: int | None = None) -> None:
    """Print accounts of two states, or the table of one."""
    from bystander.flow.commands.leads import leads, leads_json

    shown = leads(target, record, form.wanted, number)
    if form.json:
        hand_over(leads_json(shown))
        return
    from bystander.cli.shown.accounts import print_account, print_changes
    from bystander.cli.shown.console import output
    from bystander.cli.shown.places import FIRST, print_places

    console = output()
    for position, account in enumerate(shown.accounts):
        if position:
            console.print()
        print_account(console, account, form.first or FIRST)
        if form.wanted.order or form.everything:
            print_changes(console, account, shown.order, form.first or FIRST, form.everything)
    if shown.table:
        print_places(console, shown.table, shown.order, form.first or FIRST, form.everything)
    if form.brief:
        console.print()
        return
    _next(shown.table.run if shown.table else shown.accounts[0].run, form, two=not shown.table)


def _next(run: str, form: _Form, two: bool) -> None:
    """Say what one would do next."""
    from bystander.cli.shown.console import output, tell
    from bystander.design import command_line

    repeat = given(archive=form.archive)
    if two:
        words = ("leads", run.partition("/")[0], "--order", "alone" if form.wanted.order != "alone" else "whole")
        tell(output(), f"Next: all places of both arms, from what is kept:\n  {command_line(*words, given=repeat)}")
        return
    other = "alone" if form.wanted.order != "alone" else "whole"
    again = command_line("leads", run, "--order", other, given=repeat)
    tell(output(), f"Next: the same in another order, from what is kept:\n  {again}")


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
    sources: dict[str, Any], only: list[str] | None, arm: str | None, arguments: str | None
) -> None:
    """Raise UsageError when what is given does not go together."""
    named = [name for name, value in sources.items() if value]
    if len(named) > 1:
        raise UsageError(f"{named[0]} and {named[1]} are both given; keep the one that is meant")
    if named and named[0] in ("a command", "--call") and (only or arm):
        raise UsageError(
            f"{'--only' if only else '--arm'} chooses in a study or a record; with {named[0]} it does not apply"
        )
    if arguments is not None and not sources["--call"]:
        raise UsageError("--given goes with --call")


def _planned(
    command: list[str] | None, call: str | None, arguments: str | None, study: Path | None, keep: list[str]
) -> tuple[Study, StudyFolder]:
    """Return the study that is meant, and where it lies."""
    from bystander.flow.places import load_study
    from bystander.flow.quick.studies import inspected_callable_study, one_command_study

    if command is not None:
        if not command:
            raise UsageError("-- stands before a command, and there is none")
        return one_command_study(command, here(), keep)
    if call:
        return inspected_callable_study(call, arguments, here(), keep)
    planned, home = load_study(study, here())
    return replace(planned, keep_environment=(*planned.keep_environment, *keep)), home
