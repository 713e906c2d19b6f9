"""`bystander demo`."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Annotated

import typer

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.given.options import variables
from bystander.cli.onward.history import show_history
from bystander.cli.shown.said import say
from bystander.cli.shown.unfinished import end_interrupted
from bystander.errors import UsageError

__all__ = ["EXAMPLE", "demo"]

EXAMPLE = "Examples: bystander demo | bystander demo /tmp/harbour --recorded | bystander demo walk --history"


def demo(
    folder: Annotated[Path, typer.Argument(help="Where to lay it out; it must be empty or not there yet.")] = Path(
        "harbour-office"
    ),
    recorded: Annotated[
        bool, typer.Option("--recorded", help="Show an observation that was recorded before, in a moment.")
    ] = False,
    history: Annotated[
        bool, typer.Option("--history", help="Show what goes on: a longer history, a chain, an edit apart, a search.")
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
    from bystander.flow.commands.report import Asked, write_reports

    if history:
        if with_failures:
            raise UsageError("--history and --with-failures do not go together")
        show_history(folder, recorded)
        return
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
    console.print()
    if _inspected(archive, name, recorded) == name:
        decision, _ = decided(archive, name, given=Given(here=str(folder.resolve())))
    page, text = folder / "review.html", folder / "review.md"
    write_reports(Asked(decision, archive=archive), [page, text])
    console.print()
    console.print(
        f"The page for a reviewer: {page}; as text: {text}; what is true of each workload: {folder / 'truths.toml'}"
    )
    tell(console, f"Try it there, then edit bystander.toml:\n  cd {shlex.quote(str(folder))}")
    for word in ("decide", "leads", "check"):
        tell(console, f"  {command_line(word)}")
    tell(console, "From the verdict to the line, and to a judgement:")
    for words in _TOUR[recorded]:
        tell(console, f"  {command_line('leads', '--only', 'gauge', *words)}")
    tell(console, f"  {command_line('settle', 'telegrams.parse', 'try', '--because', 'split was quicker')}")
    tell(console, "Where does the time of one state go, without an edit?")
    tell(console, f"  {command_line('inspect', '--only', 'gauge', '--arm', 'after')}")


_LOOKED_INTO = ("gauge", "chart")
# What goes on from the leads of the gauge; of the recorded observation no source lies here.
_TOUR = {
    False: (("--down",), ("--lines", "telegrams.parse"), ("--try", "1"), ("--to", "leads.html")),
    True: (("--down",), ("--above", "telegrams.parse"), ("--to", "leads.html")),
}


def _inspected(archive: Path, name: str, recorded: bool) -> str:
    """Look into two workloads in both arms and show their leads; return the record that has them.

    Where nothing can be watched here, what was recorded elsewhere is shown in its place, and that is said.
    """
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.inside.accounts import print_account
    from bystander.cli.shown.inside.places import FIRST
    from bystander.cli.shown.live import Display
    from bystander.errors import BystanderError
    from bystander.flow.commands.demo import recorded as read_recorded
    from bystander.flow.inside.asked import Asked
    from bystander.flow.inside.changed import inspect_changed
    from bystander.flow.leads.shown import Wanted, leads

    console = output()
    if recorded:
        tell(console, "Where did it change? Recorded with it, on another machine:")
    else:
        names = " and ".join(_LOOKED_INTO)
        tell(console, f"Where did it change? Watching {names} in both arms, apart from timed trials.")
        try:
            with Display() as display:
                done = inspect_changed(archive, name, variables(), display, _LOOKED_INTO, Asked())
            if not done.complete:
                folder = archive.parent.parent
                say(f"bystander: interrupted; in {folder}, bystander inspect --resume goes on", err=True)
                raise typer.Exit(INTERRUPTED)
        except BystanderError as error:
            tell(console, f"Here it cannot be watched: {error}. Recorded before, on another machine, with other times:")
            name = read_recorded(archive)
    accounts = leads(archive, name, Wanted()).accounts
    if not recorded and not any(account.leads for account in accounts):
        seen = next((text for account in accounts for text in account.about), "no change could be seen")
        tell(console, f"Here it cannot be seen well: {seen} Recorded before, on another machine, with other times:")
        name = read_recorded(archive)
        accounts = leads(archive, name, Wanted()).accounts
    for account in accounts:
        console.print()
        print_account(console, account, FIRST)
    return name


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
        end_interrupted(result.record, archive)
    return result.record
