"""`bystander bisect`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.given.contradictions import refuse_given
from bystander.cli.given.meant import meant_study
from bystander.cli.given.options import (
    ArchiveOption,
    JsonOption,
    OnlyOption,
    StudyOption,
    given,
    here,
    variables,
    whole_option,
)
from bystander.cli.shown.said import hand_over
from bystander.cli.shown.unfinished import end_interrupted, resumable
from bystander.errors import UsageError

if TYPE_CHECKING:
    from bystander.flow.onward.asked import AskedBisect
    from bystander.verdicts import Searched

__all__ = ["EXAMPLE", "bisect", "show_search"]

EXAMPLE = (
    "Examples: bystander bisect v1..HEAD --only year | bystander bisect v1..HEAD -- python3 report.py | "
    "bystander bisect --resume"
)


def bisect(
    what: Annotated[
        str | None, typer.Argument(metavar="[FROM..TO]", help="The good revision and the bad one; or a record to show.")
    ] = None,
    command: Annotated[
        list[str] | None,
        typer.Argument(metavar="[-- COMMAND ...]", help="Time this one command in every commit, without a study."),
    ] = None,
    only: OnlyOption = None,
    measure: Annotated[
        str | None, typer.Option("--measure", help="Search for a change of this measure, instead of the study's.")
    ] = None,
    blocks: Annotated[
        int | None, typer.Option("--blocks", help="Blocks of each test of two commits, at most.", min=8)
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="All commits of the range, not first parents only.")] = False,
    one_step: Annotated[bool, typer.Option("--one-step", help="Search for no second step.")] = False,
    arm: Annotated[
        str | None, typer.Option("--arm", help="Make the commits like this arm of the study, where its arms differ.")
    ] = None,
    seed: Annotated[
        int | None, typer.Option("--seed", help="Decide the order of trials by this number.", min=0)
    ] = None,
    resume: Annotated[
        bool, typer.Option("--resume", help="Take up a search that was interrupted: --resume [RECORD].")
    ] = False,
    json: JsonOption = False,
    study: StudyOption = None,
    archive: ArchiveOption = None,
    wait: Annotated[
        bool, typer.Option("--wait", help="Wait until another observation on this machine has ended.")
    ] = False,
    quiet: Annotated[bool, typer.Option("--quiet", help="Show no progress.")] = False,
) -> None:
    """Find the commit that made it slower, or faster, or otherwise, or made it fail, and say how sure that is.

    Without a range, show what the newest search found; nothing is run then.
    """
    from bystander.cli.shown.live import Display
    from bystander.design import is_range
    from bystander.flow.chains.searched import searched
    from bystander.flow.onward.asked import AskedBisect
    from bystander.flow.places import find_archive

    asked = AskedBisect(
        tuple(only or ()), measure, arm, whole_option("--blocks", blocks, "blocks"),
        whole_option("--seed", seed, "seed"), every, not one_step,
    )  # fmt: skip
    ran = resume or (what is not None and is_range(what))
    if not ran or resume:
        _refuse_running(command, asked, resume, what)
    if resume:
        from bystander.flow.onward.bisect import resume_bisection

        target = find_archive(archive, variables(), here())
        with Display(quiet) as display, resumable(archive, "bisect"):
            name: str | None = resume_bisection(target, what, variables(), display, wait)
    elif ran:
        assert what
        name, target = _searched(what, command or [], asked, study, archive, wait=wait, quiet=quiet)
    else:
        name, target = what, find_archive(archive, variables(), here())
    done = searched(target, name)
    show_search(done, json, archive)
    if ran and not done.head.complete:
        end_interrupted(done.head.name, archive, "bisect")


def _refuse_running(command: list[str] | None, asked: AskedBisect, resume: bool, what: str | None) -> None:
    """Refuse what only a search that begins can take."""
    from bystander.design import is_range

    given_ones = {
        "a command": command, "--only": asked.only, "--measure": asked.measure, "--blocks": asked.blocks,
        "--all": asked.every, "--one-step": not asked.second, "--arm": asked.arm, "--seed": asked.seed,
    }  # fmt: skip
    refuse_given(given_ones, "is for a search that begins: name its range, for example v1..v9")
    if resume and what is not None and is_range(what):
        raise UsageError(f'--resume takes up a record, and "{what}" is a range; give one of them')


def _searched(
    what: str,
    command: list[str],
    asked: AskedBisect,
    study: Path | None,
    archive: Path | None,
    *,
    wait: bool,
    quiet: bool,
) -> tuple[str, Path]:
    """Search a range, and return the record's name and archive."""
    from bystander.cli.shown.live import Display
    from bystander.flow.onward.bisect import bisect as run

    meant, home, target = meant_study(command, study, archive)
    with Display(quiet) as display, resumable(archive, "bisect"):
        name = run(meant, home, target, variables(), display, what, asked, wait)
    if not name:
        end_interrupted(None, archive)
    return name, target


def show_search(done: Searched, json: bool, archive: Path | None, hint: bool = True) -> None:
    """Print what was found for people, or as JSON."""
    from bystander.cli.shown.console import output, tell
    from bystander.design import command_line
    from bystander.flow.chains.searched import bisect_document
    from bystander.units import moment_text
    from bystander.verdicts import bisected_lines

    if json:
        hand_over(bisect_document(done))
        return
    console, head = output(), done.head
    console.print(f"{head.name}: {head.study.name}", style="title")
    for note in head.notes:
        console.print(note)
    label = next((one.label for one in head.measures if one.name == head.study.measure), head.study.measure)
    console.print(f"{done.what}, by {label}; {moment_text(head.started_wall_s)}", style="quiet")
    repeated = given(None, archive, None)
    words: list[tuple[str, ...]] = []
    for workload, found in done.found:
        console.print()
        for line in bisected_lines(done, workload, found):
            tell(console, line)
        for step in found.steps[:1]:
            short, name = done.commits[step.commits[-1]].short, head.study.workloads[workload].name
            words.append(("inspect", head.name, "--only", name))
            if (size := done.sizes.get(short)) and size.hunks > 1:
                words.append(("chain", head.name, "--hunks", short, "--only", name))
    if hint and words and head.observed_here:
        tell(console, "Next, where in it:")
        for each in words:
            tell(console, f"  {command_line(*each, given=repeated)}")
