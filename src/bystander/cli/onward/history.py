"""`bystander demo --history`: a chain, an edit taken apart and a search, on a longer history of the harbour office."""

from __future__ import annotations

import shlex
from pathlib import Path

import typer

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.given.options import variables
from bystander.cli.shown.said import say

__all__ = ["show_history"]

_SEARCHED, _APART = "gauge", "day"  # the workload that is searched in, and that of the edit that is taken apart
_CHANGE = 0.2  # smaller than what is planted; on a busy machine that is seen, too


def show_history(folder: Path, recorded: bool) -> None:
    """Lay out the history, and show the whole way through it; what cannot be seen here is shown as it was recorded."""
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.ladders import print_ladder
    from bystander.design import command_line
    from bystander.flow.commands.demo import demo_archive, lay_out_history, lumped, recorded_history
    from bystander.flow.onward.chain import chain_ladder, write_ladders

    console = output()
    study = lay_out_history(folder)
    console.print(f"The harbour office is laid out in {folder}: 22 commits, and a study.", style="title")
    archive = demo_archive(study)
    chain = None if recorded else _chain(study, archive)
    kept = recorded_history(archive) if recorded or chain is None else None
    if kept:
        console.print("Recorded before, on another machine:")
    console.print()
    made = chain_ladder(archive, chain or (kept[0] if kept else None))
    print_ladder(console, made, hint=False)
    console.print()
    tell(console, f"{lumped(made)} is several edits in one, each hunk alone and on top of the others, in {_APART}:")
    apart = _apart(archive, chain) if chain else None
    if apart is None:
        kept = kept or recorded_history(archive)
        console.print("Recorded before, on another machine:")
    console.print()
    print_ladder(console, chain_ladder(archive, apart or (kept[1] if kept else None)), hint=False)
    page = folder / "ladder.html"
    write_ladders(made, [page])
    if not recorded:
        console.print()
        _search(study, archive)
    console.print()
    console.print(f"The ladder as a page: {page}; what is true of each edit: {folder / 'truths.toml'}")
    tell(console, f"Try it there:\n  cd {shlex.quote(str(folder))}")
    edit = made.rungs[1].link.name
    for words in (
        ("chain",), ("settle", edit, "kept", "--because", "the table was read for every height"),
        ("chain", "--add", "--change", f"{_CHANGE:.0%}"), ("bisect", "start..main", "--only", _SEARCHED),
    ):  # fmt: skip
        tell(console, f"  {command_line(*words)}")


def _chain(study: Path, archive: Path) -> str | None:
    """Run the chain; None where this machine could not show what is planted."""
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.live import Display
    from bystander.errors import UsageError
    from bystander.flow.onward.chain import AskedChain, chain_study, observe_chain
    from bystander.flow.places import load_study

    planned, home = load_study(study, study.parent)
    asked = AskedChain(change=_CHANGE)
    tell(output(), f"  bystander chain start..main --change '{_CHANGE:.0%}'")
    try:
        with Display() as display:
            meant = chain_study(planned, home, "start..main", asked, archive)
            done = observe_chain(meant, home, archive, variables(), display, asked)
    except UsageError as error:
        output().print(f"Here it cannot be seen: {error}.")
        return None
    _whole(done.complete, done.record)
    return done.record


def _apart(archive: Path, chain: str) -> str | None:
    """Take the lumped edit apart; None where this machine could not show its pieces."""
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.live import Display
    from bystander.errors import UsageError
    from bystander.flow.commands.demo import lumped
    from bystander.flow.onward.chain import AskedChain, GoOn, chain_ladder, gone_on

    link = lumped(chain_ladder(archive, chain))
    tell(output(), f"  bystander chain --hunks {link} --only {_APART} --change '{_CHANGE:.0%}'")
    asked = AskedChain(only=(_APART,), change=_CHANGE)
    try:
        with Display() as display:
            done = gone_on(archive, chain, GoOn(hunks=link), asked, variables(), display)
    except UsageError as error:
        output().print(f"Here it cannot be seen: {error}.")
        return None
    _whole(done.complete, done.record)
    return done.record


def _whole(complete: bool, record: str) -> None:
    if not complete:
        say(f"bystander: interrupted; record {record} is unfinished", err=True)
        raise typer.Exit(INTERRUPTED)


def _search(study: Path, archive: Path) -> None:
    """Search for the commit that made the telegrams slower."""
    from bystander.cli.onward.bisect import show_search
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.live import Display
    from bystander.flow.onward.bisect import AskedBisect, bisect, searched
    from bystander.flow.places import load_study

    planned, home = load_study(study, study.parent)
    tell(output(), f"  bystander bisect start..main --only {_SEARCHED}")
    with Display() as display:
        name = bisect(planned, home, archive, variables(), display, "start..main", AskedBisect(only=(_SEARCHED,)))
    done = searched(archive, name)
    _whole(done.head.complete, name)
    show_search(done, json=False, archive=None, hint=False)
