"""`bystander new`."""

from __future__ import annotations

from typing import Annotated

import typer

from bystander.cli.given.options import GivenOption, MakeInputOption, here
from bystander.cli.shown.said import say
from bystander.errors import UsageError

__all__ = ["EXAMPLE", "new"]

EXAMPLE = "Examples: bystander new | bystander new --call tidebook.tides:heights --given \"port='north', days=3\""


def new(
    call: Annotated[
        str | None, typer.Option("--call", metavar="MODULE:FUNCTION", help="Time this Python function.")
    ] = None,
    arguments: GivenOption = None,
    make_input: MakeInputOption = None,
    force: Annotated[bool, typer.Option("--force", help="Write over a study that is there.")] = False,
) -> None:
    """Write a commented study for this folder, right as it stands."""
    from bystander.design import quick_callable
    from bystander.flow.commands.new import nothing_to_compare, write_study

    if call is None and (arguments is not None or make_input is not None):
        raise UsageError("--given and --make-input go with --call")
    target = write_study(here(), force, quick_callable(call, arguments, make_input) if call else None)
    say(f"{target.name} is written: name your workloads and arms in it.")
    if nothing_to_compare(here()):
        say("There is nothing to compare yet: the working tree is as HEAD has it.")
        say("Edit something, or name an earlier revision in [arms.before].")
    say("Next:\n  bystander check")
