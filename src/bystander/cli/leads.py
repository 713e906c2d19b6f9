"""`bystander leads`: what inspections showed, narrowed to what is wanted. Nothing is run."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.given.inspected import (
    FirstOption,
    OrderOption,
    RecordInspected,
    StateArmOption,
    StateOnlyOption,
    ViewOption,
)
from bystander.cli.given.options import ArchiveOption, JsonOption, SpreadsheetOption, here, variables
from bystander.cli.shown.inside.inspected import Form, show_closely, show_growing, show_inspected, show_slow
from bystander.cli.shown.said import hand_over, say
from bystander.errors import UsageError
from bystander.files import write_whole
from bystander.units import listed

if TYPE_CHECKING:
    from bystander.flow.leads.shown import Wanted

__all__ = ["LEADS_EXAMPLE", "leads"]

LEADS_EXAMPLE = (
    "Examples: bystander leads | bystander leads --only gauge --order calls | bystander leads --arm v2 --order alone | "
    "bystander leads --only gauge --under telegrams.read | bystander leads --only gauge --lines telegrams.parse | "
    "bystander leads --to places.csv"
)


def leads(
    record: RecordInspected = None,
    only: StateOnlyOption = None,
    arm: StateArmOption = None,
    order: OrderOption = None,
    first: FirstOption = None,
    everything: Annotated[bool, typer.Option("--all", help="Show every place.")] = False,
    view: ViewOption = None,
    under: Annotated[
        str | None, typer.Option("--under", metavar="PLACE", help="Only what lies under this place, or pattern.")
    ] = None,
    without: Annotated[
        list[str] | None,
        typer.Option("--without", metavar="PLACE", help="Leave out what lies under this place; may be repeated."),
    ] = None,
    libraries: Annotated[
        str | None,
        typer.Option(
            "--libraries", metavar="WORD", help="Count libraries with-callers, or apart as places of their own (usual)."
        ),
    ] = None,
    imports: Annotated[
        str | None,
        typer.Option(
            "--imports", metavar="WORD", help="Count imports with-callers, which import modules, or apart (usual)."
        ),
    ] = None,
    above: Annotated[
        str | None, typer.Option("--above", metavar="PLACE", help="Who calls this place: seconds and calls of each.")
    ] = None,
    below: Annotated[
        str | None, typer.Option("--below", metavar="PLACE", help="What this place calls: seconds and calls of each.")
    ] = None,
    down: Annotated[bool, typer.Option("--down", help="One line from the whole to where the time is spent.")] = False,
    lines: Annotated[
        str | None, typer.Option("--lines", metavar="PLACE", help="This function's source beside seconds by line.")
    ] = None,
    other: Annotated[
        str | None,
        typer.Option(
            "--beside", metavar="INSPECTION", help="One state beside an inspection of another hour: calls exactly."
        ),
    ] = None,
    slow: Annotated[
        bool, typer.Option("--slow", help="Where slow trials differ from typical ones, as inspect --slow caught them.")
    ] = False,
    growth: Annotated[
        bool, typer.Option("--growth", help="How places grow with an input, as inspect --inputs watched it.")
    ] = False,
    number: Annotated[
        int | None,
        typer.Option(
            "--try", metavar="N", help="Write a study that tests the N-th lead, or guess, with a copy of its files."
        ),
    ] = None,
    executions: Annotated[
        str | None,
        typer.Option(
            "--executions", metavar="PLACE", help="How often its lines ran, as inspect --executions counted it."
        ),
    ] = None,
    by_arguments: Annotated[
        str | None,
        typer.Option("--arguments", metavar="PLACE", help="Its calls by arguments, as inspect --arguments counted it."),
    ] = None,
    to: Annotated[
        list[Path] | None,
        typer.Option(
            "--to",
            help="Write a file instead: .html, a page; .csv, a row a place or path; .json; .sarif, a result a lead; "
            ".svg, .png, .pdf, a picture. Repeatable.",
        ),
    ] = None,
    picture: Annotated[
        str | None,
        typer.Option("--picture", metavar="WORD", help="What a picture shows: account, mirror of both arms, or flow."),
    ] = None,
    spreadsheet: SpreadsheetOption = False,
    json: JsonOption = False,
    archive: ArchiveOption = None,
) -> None:
    """Show where it changed, or where the time of one state went, from what is kept. Nothing is run."""
    from bystander.flow.leads.shown import Wanted
    from bystander.flow.leads.within import Part
    from bystander.flow.places import find_archive

    target = find_archive(archive, variables(), here())
    part = Part(under, tuple(without or ()), libraries, imports)
    wanted = Wanted(tuple(only or ()), arm, view, order, part)
    into = above is not None or below is not None or down or lines is not None
    if growth or slow:
        others = {
            "--slow": slow and growth, "--arm": arm if growth else None,
            "--order": order, "--under": under, "--without": without, "--libraries": libraries, "--imports": imports,
            "--above": above, "--below": below, "--down": down, "--lines": lines, "--beside": other, "--try": number,
            "--executions": executions, "--arguments": by_arguments, "--to": to, "--picture": picture,
        }  # fmt: skip
        if unfit := [name for name, value in others.items() if value]:
            option = "--growth" if growth else "--slow"
            raise UsageError(f"{option} shows all places of trials of its own; {unfit[0]} does not apply")
        if slow:
            show_slow(target, record, only or (), arm, view, first, everything, json)
        else:
            show_growing(target, record, only or (), view, first, everything, json)
        return
    if number is not None:
        if into or to or picture or other is not None or executions is not None or by_arguments is not None or json:
            raise UsageError("--try writes a study and shows nothing; give it without what is shown")
        _try(target, record, wanted, number)
        return
    if executions is not None or by_arguments is not None:
        place = executions if by_arguments is None else by_arguments
        others = {
            "--executions": executions is not None and by_arguments is not None, "--above": above, "--below": below,
            "--down": down, "--lines": lines, "--beside": other, "--to": to, "--order": order, "--first": first,
            "--all": everything, "--under": under, "--without": without, "--libraries": libraries,
            "--imports": imports, "--view": view,
            "--picture": picture,
        }  # fmt: skip
        if unfit := [name for name, value in others.items() if value]:
            option = "--executions" if by_arguments is None else "--arguments"
            raise UsageError(f"{option} shows counts of one function; {unfit[0]} does not apply")
        show_closely(target, record, only or (), arm, str(place), by_arguments is not None, json)
        return
    if other is not None:
        if into or to or order or not part.whole:
            raise UsageError(
                "--beside shows two inspections whole; it goes with --only, --arm, --view, --first and --all"
            )
        _beside(target, record, wanted, other, first, everything, json)
        return
    if into and (to or order or everything or first):
        named = "--to" if to else "--order" if order else "--all" if everything else "--first"
        raise UsageError(f"{named} is for all places; --above, --below, --down and --lines show what they show whole")
    if spreadsheet and not to:
        raise UsageError("--spreadsheet goes with --to FILE.csv")
    if to or picture:
        _write(target, record, wanted, to or [], spreadsheet, picture)
    elif into:
        _into(target, record, wanted, above, below, down, lines, json)
    else:
        show_inspected(target, record, Form(wanted, first, everything, json, archive))


def _try(target: Path, record: str | None, wanted: Wanted, number: int) -> None:
    """Write a study that tests a lead, and say what is left to do."""
    from bystander.cli.shown.console import output, tell
    from bystander.flow.leads.shown import tried

    found = tried(target, record, wanted, number)
    say(f"{found.study.name} is written, with a copy of the files in {found.folder.name}/.")
    if found.left_out:
        tell(output(), f"Left out, as they are no files, folders or links: {listed(found.left_out, 4)}.")
    tell(output(), f"It has {found.said}." if not found.todo else f"To do: {found.todo}.")
    tell(output(), f"Then:\n  {found.command}" if found.todo else f"Next:\n  {found.command}")


def _into(
    target: Path, record: str | None, wanted: Wanted, above: str | None, below: str | None, down: bool,
    lines: str | None, json: bool,
) -> None:  # fmt: skip
    """Print what is asked of single places."""
    from bystander.flow.commands.leads import gone_into, into_json

    found = gone_into(target, record, wanted, above, below, down, lines)
    if json:
        hand_over(into_json(found))
        return
    from bystander.cli.shown.console import output
    from bystander.cli.shown.inside.within import print_down, print_lines, print_neighbours

    console = output()
    if found.down:
        print_down(console, found.down)
    for at, one in enumerate(found.neighbours):
        if at or found.down:
            console.print()
        print_neighbours(console, one)
    for at, lines_of in enumerate(found.lines):
        if at or found.down or found.neighbours:
            console.print()
        print_lines(console, lines_of)


def _beside(
    target: Path, record: str | None, wanted: Wanted, other: str, first: int | None, everything: bool, json: bool
) -> None:
    """Print two inspections of different hours side by side."""
    from bystander.flow.commands.leads import beside, into_json

    found = beside(target, record, wanted, other)
    if json:
        hand_over(into_json(None, found))
        return
    from bystander.cli.shown.console import output
    from bystander.cli.shown.inside.within import print_beside

    print_beside(output(), found, None if everything else first or 15)


def _write(
    target: Path, record: str | None, wanted: Wanted, to: list[Path], spreadsheet: bool, picture: str | None
) -> None:
    from bystander.flow.leads.files import leads_file, refuse_leads_files

    refuse_leads_files(to, picture)
    texts = [leads_file(target, record, wanted, file.suffix.lower(), spreadsheet, picture) for file in to]
    for file, text in zip(to, texts, strict=True):
        write_whole(file, text)
        say(f"{file} is written.")
