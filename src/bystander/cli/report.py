"""`bystander report`."""

from __future__ import annotations

from pathlib import Path

import typer

from bystander.cli.given.gate import GateAlsoOption, GateOption, gate_code
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
from bystander.cli.given.outputs import PictureOption, ToOption
from bystander.cli.shown.said import say

__all__ = ["EXAMPLE", "report"]

_NEXT = {
    ".html": "Next: open it, or send it to the reviewer.", ".md": "Next: paste it into the review.",
    **dict.fromkeys((".svg", ".png", ".pdf"), "Next: look at it, or put it where it is needed."),
}  # fmt: skip
EXAMPLE = "Examples: bystander report --to review.html | bystander report --to review.md --to junit.xml"


def report(
    record: RecordArgument = None,
    to: ToOption = None,
    picture: PictureOption = None,
    measure: MeasureOption = None,
    margin: MarginOption = None,
    risk: RiskOption = None,
    arm: ArmOption = None,
    only: OnlyOption = None,
    order: OrderOption = None,
    gate: GateOption = None,
    gate_also: GateAlsoOption = None,
    redacted: RedactedOption = False,
    archive: ArchiveOption = None,
) -> None:
    """Write a record as a page, text or picture for a reviewer, or as a file for programs. Nothing is run."""
    from bystander.flow.commands.decide import decided
    from bystander.flow.commands.report import Asked, refuse_picture, refuse_targets, write_reports
    from bystander.flow.places import find_archive
    from bystander.units import counted

    targets = to or [Path("review.html")]
    refuse_targets(targets)
    kind = refuse_picture(picture, targets)
    options = decide_options(measure, margin, risk, arm, only, order)
    found = find_archive(archive, variables(), here())
    decision, finding = decided(found, record, options, gate, gate_also, given(None, archive, only), redacted)
    write_reports(Asked(decision, finding, found, kind), targets)
    rows = counted(len(decision.primary), "row")
    verb = "is" if len(targets) == 1 else "are"
    say(f"{', '.join(map(str, targets))} {verb} written: {decision.head.name}, {rows}.")
    say(_NEXT.get(targets[0].suffix.lower(), "Next: hand it to the program that reads it."))
    if finding is not None and (code := gate_code(finding)):
        raise typer.Exit(code)
