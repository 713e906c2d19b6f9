"""`bystander settle`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.given.options import ArchiveOption, OnlyOption, given, here, variables
from bystander.cli.shown.said import say
from bystander.errors import UsageError

if TYPE_CHECKING:
    from pathlib import Path

    from bystander.flow.leads.judged import AskedJudge

__all__ = ["EXAMPLE", "settle"]

EXAMPLE = (
    'Examples: bystander settle gauge accepted --because "telegrams are checked now" --until 2027-03-01 | '
    'bystander settle telegrams.parse as-expected --because "each telegram is checked"'
)


def settle(
    what: Annotated[
        str, typer.Argument(metavar="WHAT", help="A workload; a place, as leads name it; or a link of a chain.")
    ],
    fate: Annotated[
        str,
        typer.Argument(
            metavar="FATE",
            help="Of a workload's change: accepted. Of a place: as-expected, leave-alone, not-worth-it or try. "
            "Of a link: kept or dropped.",
        ),
    ],
    because: Annotated[str, typer.Option("--because", help="Why; it is read in every review from now on.")],
    until: Annotated[str | None, typer.Option("--until", metavar="DAY", help="The last day: 2027-03-01.")] = None,
    up_to: Annotated[
        str | None,
        typer.Option("--up-to", metavar="SIZE", help='How much worse it may be: "5 %"; as it is shown by default.'),
    ] = None,
    arm: Annotated[str | None, typer.Option("--arm", help="Under this candidate, where there are several.")] = None,
    measure: Annotated[str | None, typer.Option("--measure", help="Of this measure, instead of the study's.")] = None,
    only: OnlyOption = None,
    record: Annotated[
        str | None, typer.Option("--record", help="As this record shows it; of a place, a record or an inspection.")
    ] = None,
    archive: ArchiveOption = None,
) -> None:
    """Settle a change, a place or a link, with a reason, in bystander.settled.toml beside the study.

    The gate then passes the row until it is shown to be worse than that, or the day is over. A place that was judged no
    longer tops the list, unless it costs more than it did. A link that was dropped stays visible in its ladder.
    """
    from datetime import date

    from bystander.design import ACCEPTED, LINK_FATES, command_line
    from bystander.flow.commands.settle import AskedSettle
    from bystander.flow.commands.settle import settle as write
    from bystander.flow.leads.judged import AskedJudge
    from bystander.flow.places import find_archive

    found = find_archive(archive, variables(), here())
    if fate in LINK_FATES:
        _link(found, what, fate, because, record, archive, only or arm or until or up_to or measure)
        return
    if fate != ACCEPTED:
        _place(
            found, AskedJudge(what, fate, because, tuple(only or ()), arm, record), archive, until or up_to or measure
        )
        return
    if only:
        raise UsageError("--only is for places; of a row WHAT is the workload")
    asked = AskedSettle(what, fate, because, until, up_to, arm, measure, record)
    file, entry, allowed = write(found, asked, date.today())
    last = f", until {entry.until}" if entry.until else ""
    say(f"{entry.workload} under {entry.arm} is accepted, up to {allowed} worse{last}: it is {entry.evidence}.")
    say(f"{file} holds it; commit it.")
    say(f"Next:\n  {command_line('decide', entry.record, given=given(None, archive, None))}")


def _link(
    found: Path, what: str, fate: str, because: str, record: str | None, archive: Path | None, others: object
) -> None:
    """Settle what became of an edit of a chain."""
    from datetime import date

    from bystander.design import command_line
    from bystander.flow.chains.diary import AskedLink
    from bystander.flow.chains.ladders import settle

    if others:
        raise UsageError("--only, --arm, --until, --up-to and --measure are not for a link; --record names its chain")
    file, entry = settle(found, AskedLink(what, fate, because), record, date.today())
    say(f"{entry.link} is {entry.fate}: it is {entry.evidence}.")
    say(f"{file} holds it; commit it.")
    say(f"Next:\n  {command_line('chain', entry.record, given=given(None, archive, None))}")


def _place(found: Path, asked: AskedJudge, archive: Path | None, of_rows: str | None) -> None:
    """Settle a place, and say what that means."""
    from datetime import date

    from bystander.design import command_line
    from bystander.flow.leads.judged import judge

    if of_rows:
        raise UsageError("--until, --up-to and --measure are for a workload that is accepted; a place has none of them")
    file, entry = judge(found, asked, date.today())
    say(f"{entry.place} in {entry.workload} is {entry.fate}: it is {entry.evidence}.")
    say(f"{file} holds it; commit it.")
    words = ("leads", entry.record.partition("/")[0], "--only", entry.workload)
    say(f"Next:\n  {command_line(*words, given=given(None, archive, None))}")
