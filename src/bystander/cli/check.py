"""`bystander check`."""

from __future__ import annotations

from typing import Annotated

import typer

from bystander.cli.exit_codes import FAILED
from bystander.cli.given.options import (
    ArchiveOption,
    JsonOption,
    OnlyOption,
    PlaceboOption,
    StudyOption,
    given,
    here,
    share_option,
    variables,
)
from bystander.cli.shown.said import hand_over
from bystander.errors import UsageError

__all__ = ["EXAMPLE", "check"]

EXAMPLE = "Example: bystander check"


def check(
    study: StudyOption = None,
    only: OnlyOption = None,
    plan_only: Annotated[bool, typer.Option("--plan-only", help="Make the arms ready and run nothing.")] = False,
    placebo: PlaceboOption = False,
    placebo_blocks: Annotated[
        int | None,
        typer.Option(
            "--placebo-blocks",
            min=0,
            help="Run the reference against itself so often, to say what could be shown; 0 for not at all.",
        ),
    ] = None,
    change: Annotated[
        str | None,
        typer.Option("--change", help='Say how many blocks would show this change: "2 %"; the margin by default.'),
    ] = None,
    noise_of: Annotated[
        str | None,
        typer.Option("--noise-of", help="Take the noise from this record instead of running the reference."),
    ] = None,
    archive: ArchiveOption = None,
    json: JsonOption = False,
) -> None:
    """Read the study, make the arms ready, try each workload, say how long it will take and what it could show."""
    from bystander.cli.shown.checked import show
    from bystander.cli.shown.console import output
    from bystander.cli.shown.live import Display
    from bystander.flow.commands.check import CheckOptions, checked_json
    from bystander.flow.commands.check import check as run
    from bystander.flow.places import find_archive

    if noise_of is not None and placebo_blocks:
        raise UsageError("--noise-of takes the place of --placebo-blocks; give one of them")
    kept = None
    try:
        kept = find_archive(archive, variables(), here())
    except UsageError:
        if noise_of is not None:
            raise
    wanted = share_option("--change", change)
    options = CheckOptions(only or (), not plan_only, placebo, placebo_blocks, wanted, noise_of, kept)
    with Display(quiet=json, trying=True) as display:
        checked = run(study, here(), variables(), display, options)
    if json:
        hand_over(checked_json(checked))
    else:
        show(output(), checked, given(study, archive, only))
    if checked.failures:
        raise typer.Exit(FAILED)
