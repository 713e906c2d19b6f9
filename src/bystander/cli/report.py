"""`bystander report`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from bystander.cli.given.options import (
    ArchiveOption,
    ArmOption,
    MarginOption,
    MeasureOption,
    OnlyOption,
    OrderOption,
    RecordArgument,
    RedactedOption,
    RiskOption,
    decide_options,
    given,
    here,
    variables,
)
from bystander.cli.shown.said import say

__all__ = ["EXAMPLE", "report"]

EXAMPLE = "Examples: bystander report --to review.html | bystander report --to review.md"


def report(
    record: RecordArgument = None,
    to: Annotated[Path, typer.Option("--to", help="The file to write; its suffix says what: .html or .md.")] = Path(
        "review.html"
    ),
    measure: MeasureOption = None,
    margin: MarginOption = None,
    risk: RiskOption = None,
    arm: ArmOption = None,
    only: OnlyOption = None,
    order: OrderOption = None,
    redacted: RedactedOption = False,
    archive: ArchiveOption = None,
) -> None:
    """Write a record as a page or text for a reviewer. Nothing is run."""
    from bystander.flow.commands.decide import decided
    from bystander.flow.commands.report import known_format, write_report
    from bystander.flow.places import find_archive
    from bystander.units import counted

    known_format(to)
    options = decide_options(measure, margin, risk, arm, only, order)
    found = find_archive(archive, variables(), here())
    decision, _ = decided(found, record, options, given=given(None, archive, only), redact=redacted)
    write_report(decision, to)
    say(f"{to} is written: {decision.head.name}, {counted(len(decision.primary), 'row')}.")
    say("Next: open it, or send it to the reviewer." if to.suffix == ".html" else "Next: paste it into the review.")
