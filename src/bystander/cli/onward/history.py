"""`bystander demo --history`: a chain, an edit taken apart and a search, on a longer history of the harbour office."""

from __future__ import annotations

import shlex
from pathlib import Path

from bystander.cli.given.options import variables
from bystander.cli.shown.unfinished import end_interrupted

__all__ = ["show_history"]

_SEARCHED, _APART = "gauge", "day"  # the workload that is searched in, and that of the edit that is taken apart
_CHANGE = 0.2  # smaller than what is planted; on a busy machine that is seen, too
_CHAIN = ("chain", "start..main", "--change", f"{_CHANGE:.0%}")
_BISECT = ("bisect", "start..main", "--only", _SEARCHED)
_ELSEWHERE = "Recorded before, on another machine:"


def show_history(folder: Path, recorded: bool) -> None:
    """Lay out the history, and show the whole way through it; what cannot be seen here is shown as it was recorded."""
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.ladders import print_ladder
    from bystander.design import command_line
    from bystander.flow.chains.ladders import chain_ladder
    from bystander.flow.chains.written import write_ladders
    from bystander.flow.commands.demo import demo_archive, lay_out_history, lumped, recorded_history

    console = output()
    study = lay_out_history(folder)
    console.print(f"The harbour office is laid out in {folder}: 22 commits, and a study.", style="title")
    archive = demo_archive(study)
    chain = None if recorded else _chain(study, archive)
    kept = recorded_history(archive) if chain is None else None
    if kept:
        console.print(_ELSEWHERE)
    console.print()
    made = chain_ladder(archive, kept.chain if kept else chain)
    print_ladder(console, made, hint=False)
    console.print()
    tell(console, f"{lumped(made)} is several edits in one, each hunk alone and on top of the others, in {_APART}:")
    apart = _apart(archive, chain) if chain else None
    if apart is None:
        kept = kept or recorded_history(archive)
        console.print(_ELSEWHERE)
    console.print()
    print_ladder(console, chain_ladder(archive, kept.pieces if kept else apart), hint=False)
    page = folder / "ladder.html"
    write_ladders(made, [page])
    console.print()
    _search(study, archive, kept.search if kept and recorded else None)
    console.print()
    console.print(f"The ladder as a page: {page}; what is true of each edit: {folder / 'truths.toml'}")
    tell(console, f"Try it there:\n  cd {shlex.quote(str(folder))}")
    edit = made.rungs[1].link.name
    settled = ("settle", edit, "kept", "--because", "the table was read for every height")
    onward = ("chain", "--add") if kept is None else _CHAIN  # what was recorded elsewhere has no states here
    for words in (("chain",), settled, onward, _BISECT):
        tell(console, f"  {command_line(*words)}")


def _chain(study: Path, archive: Path) -> str | None:
    """Run the chain; None where this machine could not show what is planted."""
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.live import Display
    from bystander.design import command_line
    from bystander.errors import UsageError
    from bystander.flow.onward.asked import AskedChain
    from bystander.flow.onward.chain import chain_study, observe_chain
    from bystander.flow.places import load_study

    planned, home = load_study(study, study.parent)
    asked = AskedChain(change=_CHANGE, refuse=True)
    tell(output(), f"  {command_line(*_CHAIN)}")
    try:
        with Display() as display:
            meant = chain_study(planned, home, "start..main", asked, archive)
            done = observe_chain(meant, home, archive, variables(), display, asked)
    except UsageError as error:
        output().print(f"Here it cannot be seen: {error}.")
        return None
    if not done.complete:
        end_interrupted(done.record, archive)
    return done.record


def _apart(archive: Path, chain: str) -> str | None:
    """Take the lumped edit apart; None where this machine could not show its pieces."""
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.live import Display
    from bystander.design import command_line
    from bystander.errors import UsageError
    from bystander.flow.chains.ladders import chain_ladder
    from bystander.flow.commands.demo import lumped
    from bystander.flow.onward.asked import AskedChain, GoOn
    from bystander.flow.onward.chain import gone_on

    link = lumped(chain_ladder(archive, chain))
    tell(output(), f"  {command_line('chain', '--hunks', link, '--only', _APART)}")
    asked = AskedChain(only=(_APART,), refuse=True)  # what the chain asked for is asked for again
    try:
        with Display() as display:
            done = gone_on(archive, chain, GoOn(hunks=link), asked, variables(), display)
    except UsageError as error:
        output().print(f"Here it cannot be seen: {error}.")
        return None
    if not done.complete:
        end_interrupted(done.record, archive)
    return done.record


def _search(study: Path, archive: Path, recorded: str | None) -> None:
    """Search for the commit that made the telegrams slower, or show what was recorded of such a search."""
    from bystander.cli.onward.bisect import show_search
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.live import Display
    from bystander.design import command_line
    from bystander.flow.chains.searched import searched
    from bystander.flow.onward.asked import AskedBisect
    from bystander.flow.onward.bisect import bisect
    from bystander.flow.places import load_study

    tell(output(), f"Which commit made {_SEARCHED} slower?")
    tell(output(), f"  {command_line(*_BISECT)}")
    if recorded is None:
        planned, home = load_study(study, study.parent)
        with Display() as display:
            name = bisect(planned, home, archive, variables(), display, "start..main", AskedBisect(only=(_SEARCHED,)))
        done = searched(archive, name) if name else None
        if done is None or not done.head.complete:
            end_interrupted(name, archive, "bisect")
    else:
        output().print(_ELSEWHERE)
        done = searched(archive, recorded)
    show_search(done, json=False, archive=None, hint=False)
