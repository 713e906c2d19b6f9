"""`bystander chain`."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.given.contradictions import refuse_given
from bystander.cli.given.meant import meant_study
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
    whole_option,
)
from bystander.cli.shown.said import hand_over
from bystander.cli.shown.unfinished import end_interrupted, resumable
from bystander.errors import UsageError

if TYPE_CHECKING:
    from bystander.design import Given
    from bystander.flow.commands.observe import Observed
    from bystander.flow.onward.asked import AskedChain, GoOn
    from bystander.verdicts import Ladder

__all__ = ["EXAMPLE", "chain", "show_ladder"]

EXAMPLE = (
    "Examples: bystander chain v1..HEAD --only year | bystander chain --to ladder.html | bystander chain --add | "
    "bystander chain --hunks 4c81a02 | bystander chain v1..v9 -- python3 report.py"
)

LadderTo = Annotated[
    list[Path] | None,
    typer.Option("--to", metavar="FILE", help="Write the ladder: .html, .md, .svg, .png, .pdf, .json or .csv."),
]


def chain(
    what: Annotated[
        str | None,
        typer.Argument(metavar="[FROM..TO]", help="Revisions, each tried against the one before; or a record to show."),
    ] = None,
    command: Annotated[
        list[str] | None,
        typer.Argument(metavar="[-- COMMAND ...]", help="Time this one command in every state, without a study."),
    ] = None,
    only: OnlyOption = None,
    blocks: Annotated[
        int | None, typer.Option("--blocks", help="Run exactly so many blocks of each workload.", min=1)
    ] = None,
    change: Annotated[
        str | None,
        typer.Option("--change", metavar="SIZE", help='The smallest gain of a link that must be seen: "2 %".'),
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="All commits of the range, not first parents only.")] = False,
    arm: Annotated[
        str | None, typer.Option("--arm", help="Make the states like this arm of the study, where its arms differ.")
    ] = None,
    add: Annotated[
        bool, typer.Option("--add", help="Try the folder as it stands as one more link, behind the last that was kept.")
    ] = False,
    retest: Annotated[
        bool, typer.Option("--retest", help="Take each kept gain back from the newest state: does it still pay?")
    ] = False,
    hunks: Annotated[
        str | None,
        typer.Option("--hunks", metavar="LINK", help="Take one edit apart: each hunk alone, and all the others."),
    ] = None,
    by: Annotated[str | None, typer.Option("--by", metavar="hunk|file", help="With --hunks: into what.")] = None,
    pairs: Annotated[
        bool, typer.Option("--pairs", help="After --hunks: try hunks that do not add up in pairs.")
    ] = False,
    note: Annotated[
        str | None, typer.Option("--note", metavar="TEXT", help="With --add: what the edit is, in a few words.")
    ] = None,
    noise_of: Annotated[
        str | None,
        typer.Option("--noise-of", metavar="RECORD", help="Take the noise from a record, and try no blocks."),
    ] = None,
    placebo: PlaceboOption = False,
    seed: Annotated[
        int | None, typer.Option("--seed", help="Decide the order of trials by this number.", min=0)
    ] = None,
    to: LadderTo = None,
    json: JsonOption = False,
    all_rows: Annotated[bool, typer.Option("--all-rows", help="Show every link and workload.")] = False,
    study: StudyOption = None,
    archive: ArchiveOption = None,
    wait: Annotated[
        bool, typer.Option("--wait", help="Wait until another observation on this machine has ended.")
    ] = False,
    quiet: Annotated[bool, typer.Option("--quiet", help="Show no progress.")] = False,
) -> None:
    """Measure one change after another: every state in each block, each edit against the one before it.

    Without a range, show the newest chain; nothing is run then.
    """
    from bystander.design import is_range
    from bystander.flow.chains.ladders import chain_ladder
    from bystander.flow.onward.asked import AskedChain
    from bystander.flow.places import find_archive

    if to:
        from bystander.flow.chains.written import refuse_ladder_targets, write_ladders

        refuse_ladder_targets(to)
    asked = AskedChain(
        arm, tuple(only or ()), whole_option("--blocks", blocks, "blocks"), whole_option("--seed", seed, "seed"),
        share_option("--change", change), noise_of, every, placebo,
    )  # fmt: skip
    way = _way(add, retest, hunks, by, pairs, note)
    ran: Observed | None = None
    if what is not None and is_range(what):
        if way:
            raise UsageError("a range begins a chain; --add, --retest, --hunks and --pairs go on from one")
        ran, target = _observed(what, command or [], asked, study, archive, wait=wait, quiet=quiet)
    elif way:
        if command:
            words = shlex.join([what or "", *command])
            raise UsageError(f"what goes on from a chain runs the chain's own command; leave out: {words}")
        target = find_archive(archive, variables(), here())
        ran = _gone_on(target, what, way, asked, archive, wait=wait, quiet=quiet)
    else:
        _refuse_running(command, asked, wait)
        target = find_archive(archive, variables(), here())
    if ran and not ran.record:
        end_interrupted(None, archive)
    made = chain_ladder(target, ran.record if ran else what, only or ())
    if to:
        write_ladders(made, to)
    show_ladder(made, json, all_rows, given(None, archive, only), named=ran is None and what is not None)
    if ran and not ran.complete:  # the ladder's own head is that of the chain it was added to
        end_interrupted(ran.record, archive)


def _way(add: bool, retest: bool, hunks: str | None, by: str | None, pairs: bool, note: str | None) -> GoOn:
    """Return how a chain is gone on with; raise UsageError where two ways are given, or what belongs to none."""
    from bystander.flow.onward.asked import GoOn

    ways = {"--add": add, "--retest": retest, "--hunks": hunks is not None, "--pairs": pairs}
    given_ones = [name for name, value in ways.items() if value]
    if len(given_ones) > 1:
        raise UsageError(f"{' and '.join(given_ones)} are given; each is a record of its own")
    if by is not None and (hunks is None or by not in ("hunk", "file")):
        raise UsageError('--by: write "hunk" or "file", with --hunks')
    if note is not None and not add:
        raise UsageError("--note is for --add: what the edit is, in a few words")
    return GoOn(add, retest, pairs, hunks, by == "file", note or "")


def _gone_on(
    target: Path, name: str | None, way: GoOn, asked: AskedChain, archive: Path | None, *, wait: bool, quiet: bool
) -> Observed:
    """Run what goes on from a chain."""
    from bystander.cli.shown.live import Display
    from bystander.flow.onward.chain import gone_on

    if asked.arm or asked.every:
        raise UsageError("--arm and --all are for a range; what goes on from a chain is made like it")
    with Display(quiet) as display, resumable(archive):
        return gone_on(target, name, way, asked, variables(), display, wait)


def _refuse_running(command: list[str] | None, asked: AskedChain, wait: bool) -> None:
    """Refuse what only a chain that runs can take."""
    given_ones = {
        "a command": command, "--blocks": asked.blocks, "--seed": asked.seed, "--change": asked.change,
        "--noise-of": asked.noise_of, "--all": asked.every, "--placebo": asked.placebo, "--arm": asked.arm,
        "--wait": wait,
    }  # fmt: skip
    refuse_given(given_ones, "is for a chain that runs: name its states, for example v1..v9")


def show_ladder(made: Ladder, json: bool, all_rows: bool, repeated: Given, named: bool = False) -> None:
    """Print a ladder for people, or as JSON.

    Parameters
    ----------
    repeated : Given
        What the commands that are printed must repeat.
    named : bool
        Whether its record was asked for by its name.
    """
    from bystander.cli.shown.console import output
    from bystander.cli.shown.ladders import print_ladder
    from bystander.flow.chains.ladders import ladder_document

    if json:
        hand_over(ladder_document(made))
    else:
        print_ladder(output(), made, all_rows, repeated, named=named)


def _observed(
    what: str,
    command: list[str],
    asked: AskedChain,
    study: Path | None,
    archive: Path | None,
    *,
    wait: bool,
    quiet: bool,
) -> tuple[Observed, Path]:
    """Observe the states of a range, and return what became of it and the archive."""
    from bystander.cli.shown.live import Display
    from bystander.flow.onward.chain import chain_study, observe_chain

    meant, home, target = meant_study(command, study, archive)
    with Display(quiet) as display, resumable(archive):
        planned = chain_study(meant, home, what, asked, target)
        result = observe_chain(planned, home, target, variables(), display, asked, wait)
    return result, target
