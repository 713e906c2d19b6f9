"""`bystander inspect` and `bystander leads`: where the time goes."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from typer.core import TyperCommand

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.options import (
    ArchiveOption,
    JsonOption,
    StudyOption,
    duration_option,
    given,
    here,
    variables,
)
from bystander.errors import UsageError

if TYPE_CHECKING:
    from bystander.design import Study
    from bystander.flow.commands.leads import Wanted
    from bystander.flow.places import StudyFolder

__all__ = ["INSPECT_EXAMPLE", "LEADS_EXAMPLE", "InspectCommand", "inspect", "leads"]

INSPECT_EXAMPLE = (
    "Examples: bystander inspect -- python3 report.py | bystander inspect --only gauge --arm v2 | "
    "bystander inspect --call tidebook.tides:heights --given \"port='north', days=3\""
)
LEADS_EXAMPLE = "Examples: bystander leads | bystander leads --order alone --first 5 | bystander leads --to paths.csv"
_COMMAND = "bystander.command"
_SHORTEST_TICK_S = 249e-6

OrderOption = Annotated[
    str, typer.Option("--order", metavar="WORD", help="The largest first by: whole, alone, calls or per-call.")
]
FirstOption = Annotated[int | None, typer.Option("--first", min=1, help="Show so many places; 15 by default.")]
ViewOption = Annotated[
    str,
    typer.Option(
        "--view",
        metavar="WORD",
        help="Time that is shown: elapsed (of the main thread), processor or waiting (of all).",
    ),
]
StateOnlyOption = Annotated[str | None, typer.Option("--only", help="The workload.")]
StateArmOption = Annotated[str | None, typer.Option("--arm", help="The arm; the last one by default.")]
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
    order: OrderOption = "whole",
    first: FirstOption = None,
    everything: Annotated[bool, typer.Option("--all", help="Show every place.")] = False,
    view: ViewOption = "elapsed",
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
        typer.Option("--trials", min=1, help="Watch so many trials; by default until there are 2,000 readings."),
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
    json: JsonOption = False,
    archive: ArchiveOption = None,
    wait: Annotated[
        bool, typer.Option("--wait", help="Wait until another observation on this machine has ended.")
    ] = False,
    quiet: Annotated[bool, typer.Option("--quiet", help="Show no progress.")] = False,
) -> None:
    """Look into one state: run it watched from outside, unedited, and show where the time went."""
    from bystander.cli.shown.live import Display
    from bystander.flow.commands.inspect import Asked, inspect_recorded, inspect_study, state_of
    from bystander.flow.commands.leads import Wanted
    from bystander.flow.places import find_archive, new_archive

    command = context.meta.get(_COMMAND)
    _refuse_contradictions(
        {"a command": command is not None, "--call": call, "--study": study, "a record": record}, only, arm, arguments
    )
    wanted = Wanted(view=view, order=order)
    asked = Asked(_tick(tick), counts, by_hand, trials)
    seconds = duration_option("--limit", limit)
    if by_hand and trials:
        raise UsageError("--by-hand and --trials are both given; keep the one that is meant")

    def seen(name: str, number: int) -> None:
        from bystander.cli.shown.console import output

        if not json and not quiet and output().is_terminal:
            _show(target, name, wanted, first, everything, json, archive, number, brief=True)

    with Display(quiet) as display:
        options: dict[str, Any] = {"way": way, "wait": wait, "limit_s": seconds, "seen": seen}
        quick = command is not None or call or study or (record is None and _study_here(archive))
        if quick:
            planned, home = _planned(command, call, arguments, study, keep_environment or [])
            target = new_archive(archive, variables(), home)
            place = state_of(planned, only, arm)
            done = inspect_study(planned, home, target, variables(), display, place, asked, **options)
        else:
            if keep_environment:
                raise UsageError("--keep-environment does not apply: a record's trials get the variables that they had")
            target = find_archive(archive, variables(), here())
            done = inspect_recorded(target, record, variables(), display, only, arm, asked, **options)
    try:
        _show(target, done.record, wanted, first, everything, json, archive, done.number)
    except UsageError as error:  # interrupted before there was anything to show
        if done.complete:
            raise
        typer.echo(f"bystander: interrupted; {error}", err=True)
    if not done.complete:
        raise typer.Exit(INTERRUPTED)


def leads(
    record: RecordInspected = None,
    only: StateOnlyOption = None,
    arm: StateArmOption = None,
    order: OrderOption = "whole",
    first: FirstOption = None,
    everything: Annotated[bool, typer.Option("--all", help="Show every place.")] = False,
    view: ViewOption = "elapsed",
    to: Annotated[
        list[Path] | None,
        typer.Option("--to", help="Write a file instead: .csv, one row a path; or .json. Repeatable."),
    ] = None,
    json: JsonOption = False,
    archive: ArchiveOption = None,
) -> None:
    """Show where the time of an inspected state went, from what is kept. Nothing is run."""
    from bystander.flow.commands.leads import Wanted
    from bystander.flow.places import find_archive

    target = find_archive(archive, variables(), here())
    wanted = Wanted(only, arm, view, order)
    if to:
        _write(target, record, wanted, to)
        return
    _show(target, record, wanted, first, everything, json, archive)


def _write(target: Path, record: str | None, wanted: Wanted, to: list[Path]) -> None:
    from bystander.flow.commands.leads import leads_file

    texts = [leads_file(target, record, wanted, file.suffix.lower()) for file in to]
    for file, text in zip(to, texts, strict=True):
        file.write_text(text, encoding="utf-8")
        typer.echo(f"{file} is written.")


def _show(
    target: Path,
    record: str | None,
    wanted: Wanted,
    first: int | None,
    everything: bool,
    json: bool,
    archive: Path | None,
    number: int | None = None,
    brief: bool = False,
) -> None:
    """Print a table; a brief one is followed by another soon."""
    from bystander.flow.commands.leads import leads_table, places_json

    table = leads_table(target, record, wanted, number)
    if json:
        typer.echo(places_json(table, wanted.order))
        return
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.places import FIRST, print_places
    from bystander.design import command_line

    console = output()
    print_places(console, table, wanted.order, first or FIRST, everything)
    if brief:
        console.print()
        return
    other = "alone" if wanted.order != "alone" else "whole"
    again = command_line("leads", table.run, "--order", other, given=given(archive=archive))
    tell(console, f"Next: the same in another order, from what is kept:\n  {again}")


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


def _refuse_contradictions(sources: dict[str, Any], only: str | None, arm: str | None, arguments: str | None) -> None:
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
    from bystander.flow.commands.quick import callable_study, one_command_study
    from bystander.flow.places import load_study

    if command is not None:
        if not command:
            raise UsageError("-- stands before a command, and there is none")
        return one_command_study(command, here(), keep)
    if call:
        return callable_study(call, arguments, here(), keep)
    planned, home = load_study(study, here())
    return replace(planned, keep_environment=(*planned.keep_environment, *keep)), home
