"""`bystander settle`."""

from __future__ import annotations

from typing import Annotated

import typer

from bystander.cli.given.options import ArchiveOption, given, here, variables
from bystander.cli.shown.said import say

__all__ = ["EXAMPLE", "settle"]

EXAMPLE = 'Example: bystander settle gauge accepted --because "telegrams are checked now" --until 2027-03-01'


def settle(
    what: Annotated[str, typer.Argument(metavar="WHAT", help="A workload.")],
    fate: Annotated[str, typer.Argument(metavar="FATE", help="accepted.")],
    because: Annotated[str, typer.Option("--because", help="Why; it is read in every review from now on.")],
    until: Annotated[str | None, typer.Option("--until", metavar="DAY", help="The last day: 2027-03-01.")] = None,
    up_to: Annotated[
        str | None,
        typer.Option("--up-to", metavar="SIZE", help='How much worse it may be: "5 %"; as it is shown by default.'),
    ] = None,
    arm: Annotated[str | None, typer.Option("--arm", help="Under this candidate, where there are several.")] = None,
    measure: Annotated[str | None, typer.Option("--measure", help="Of this measure, instead of the study's.")] = None,
    record: Annotated[str | None, typer.Option("--record", help="As this record shows it")] = None,
    archive: ArchiveOption = None,
) -> None:
    """Accept a change for the worse, with a reason, in bystander.settled.toml beside the study.

    The gate then passes the row until it is shown to be worse than that, or the day is over.
    """
    from datetime import date

    from bystander.design import command_line
    from bystander.flow.commands.settle import AskedSettle
    from bystander.flow.commands.settle import settle as write
    from bystander.flow.places import find_archive

    asked = AskedSettle(what, fate, because, until, up_to, arm, measure, record)
    file, entry, allowed = write(find_archive(archive, variables(), here()), asked, date.today())
    last = f", until {entry.until}" if entry.until else ""
    say(f"{entry.workload} under {entry.arm} is accepted, up to {allowed} worse{last}: it is {entry.evidence}.")
    say(f"{file} holds it; commit it.")
    say(f"Next:\n  {command_line('decide', entry.record, given=given(None, archive, None))}")
