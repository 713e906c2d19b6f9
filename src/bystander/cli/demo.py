"""`bystander demo`."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Annotated

import typer

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.options import variables
from bystander.errors import UsageError

__all__ = ["EXAMPLE", "demo"]

EXAMPLE = "Examples: bystander demo | bystander demo /tmp/harbour --recorded"


def demo(
    folder: Annotated[Path, typer.Argument(help="Where to lay it out; it must be empty or not there yet.")] = Path(
        "harbour-office"
    ),
    recorded: Annotated[
        bool, typer.Option("--recorded", help="Show an observation that was recorded before, in a moment.")
    ] = False,
    with_failures: Annotated[
        bool, typer.Option("--with-failures", help="Add a workload that fails three times of four, and one that hangs.")
    ] = False,
) -> None:
    """Lay out the harbour office, observe a real change in it, and show the verdicts: a full example."""
    from bystander.cli.decide import show
    from bystander.cli.shown.console import output, tell
    from bystander.design import Given, command_line
    from bystander.flow.commands.decide import decided
    from bystander.flow.commands.demo import demo_archive, lay_out
    from bystander.flow.commands.demo import recorded as read_recorded
    from bystander.flow.commands.report import write_report

    if recorded and with_failures:
        raise UsageError("--recorded and --with-failures do not go together: failures are observed for real")
    console = output()
    study = lay_out(folder, with_failures)
    console.print(f"The harbour office is laid out in {folder}: revisions v1 and v2, and a study.", style="title")
    archive = demo_archive(study)
    name = read_recorded(archive) if recorded else _observed(study, archive)
    decision, _ = decided(archive, name, given=Given(here=str(folder.resolve())))
    console.print()
    show(decision)
    page, text = folder / "review.html", folder / "review.md"
    write_report(decision, page)
    write_report(decision, text)
    console.print()
    console.print(
        f"The page for a reviewer: {page}; as text: {text}; what is true of each workload: {folder / 'truths.toml'}"
    )
    tell(console, f"Try it there, then edit bystander.toml:\n  cd {shlex.quote(str(folder))}")
    for word in ("decide", "check"):
        tell(console, f"  {command_line(word)}")
    tell(console, "Where does the time go? Without an edit, look into the state that is slower:")
    tell(console, f"  {command_line('inspect', '--only', 'gauge', '--arm', 'after')}")
    if recorded:
        tell(console, f"An inspection was recorded with it:\n  {command_line('leads')}")


def _observed(study: Path, archive: Path) -> str:
    """Check, then observe for real; return the record's name."""
    from bystander.cli.shown.checked import show
    from bystander.cli.shown.console import output
    from bystander.cli.shown.live import Display
    from bystander.flow.commands.check import CheckOptions, check
    from bystander.flow.commands.observe import observe
    from bystander.flow.places import load_study

    with Display(quiet=True) as silent:
        checked = check(study, study.parent, variables(), silent, CheckOptions(placebo_blocks=4))
    console = output()
    console.print()
    show(console, checked)
    console.print()
    planned, home = load_study(study, study.parent)
    with Display() as display:
        result = observe(planned, home, archive, variables(), display)
    if not result.complete:
        typer.echo(
            "bystander: interrupted; the record is unfinished" if result.record else "bystander: interrupted",
            err=True,
        )
        raise typer.Exit(INTERRUPTED)
    return result.record
