"""`bystander new`."""

from __future__ import annotations

from typing import Annotated

import typer

from bystander.cli.options import here
from bystander.cli.shown.said import say

__all__ = ["EXAMPLE", "new"]

EXAMPLE = "Example: bystander new"


def new(
    force: Annotated[bool, typer.Option("--force", help="Write over a study that is there.")] = False,
) -> None:
    """Write a commented study for this folder, right as it stands."""
    from bystander.flow.commands.new import nothing_to_compare, write_study

    target = write_study(here(), force)
    say(f"{target.name} is written: name your workloads and arms in it.")
    if nothing_to_compare(here()):
        say("There is nothing to compare yet: the working tree is as HEAD has it.")
        say("Edit something, or name an earlier revision in [arms.before].")
    say("Next:\n  bystander check")
