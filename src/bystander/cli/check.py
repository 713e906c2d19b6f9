"""`bystander check`."""

from __future__ import annotations

import math
import shlex
from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.exit_codes import FAILED
from bystander.cli.options import (
    ArchiveOption,
    JsonOption,
    OnlyOption,
    PlaceboOption,
    StudyOption,
    here,
    share_option,
    variables,
)
from bystander.errors import UsageError

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

    from bystander.flow.check import Checked

__all__ = ["EXAMPLE", "check", "show"]

EXAMPLE = "Example: bystander check"
_MOST_COMMANDS = 20
_MOST_ROWS = 30


def check(
    study: StudyOption = None,
    only: OnlyOption = None,
    no_run: Annotated[bool, typer.Option("--no-run", help="Make the arms ready and run nothing.")] = False,
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
    from bystander.cli.console import output
    from bystander.cli.live import Display
    from bystander.flow.check import CheckOptions, checked_json
    from bystander.flow.check import check as run
    from bystander.flow.places import find_archive

    if noise_of is not None and placebo_blocks:
        raise UsageError("--noise-of takes the place of --placebo-blocks; give one of them")
    kept = None
    try:
        kept = find_archive(archive, variables(), here())
    except UsageError:
        if noise_of is not None:
            raise
    wanted = share_option("--change", change, 1.0)
    options = CheckOptions(only or (), not no_run, placebo, placebo_blocks, wanted, noise_of, kept)
    with Display(quiet=json, trying=True) as display:
        checked = run(study, here(), variables(), display, options)
    if json:
        typer.echo(checked_json(checked))
    else:
        show(output(), checked)
    if checked.failures:
        raise typer.Exit(FAILED)


def show(console: Console, checked: Checked) -> None:
    """Print what a check found, for people."""
    from bystander.design.machine import machine_sentences, machine_title
    from bystander.units import counted, duration_text

    study = checked.study
    console.print(study.name, style="title")
    console.print()
    for arm in checked.arms:
        role = "reference" if arm.name == study.reference.name else "candidate"
        console.print(f"arm {arm.name} ({role}): {arm.identity}")
        if subject := arm.facts.get("subject"):
            console.print(f"    {subject}", style="quiet")
        if facts := arm.facts.get("interpreter"):
            console.print(f"    {facts['version']} at {facts['program']}", style="quiet", soft_wrap=True)
    console.print()
    _print_trials(console, checked)
    for difference in checked.differences:
        _print_difference(console, checked, difference.workload, difference.arm, difference.lines)
    for one in checked.failures:
        name = f"{study.workloads[one.workload].name} under arm {study.arms[one.arm].name}"
        console.print(f"{name} failed ({one.outcome.status.text} {one.outcome.detail or ''}):".replace(" )", ")"))
        console.print(
            "\n".join(f"    {line}" for line in one.outcome.excerpt.splitlines()[-5:]) or "    it said nothing"
        )
    console.print(f"Machine: {machine_title(checked.machine)}")
    console.print(" ".join(machine_sentences(checked.machine)))
    for remark in checked.remarks:
        console.print(f"Note: {remark}")
    parts = [(len(study.workloads), "workload"), (len(study.arms), "arm"), (study.blocks, "block")]
    of_what = ", ".join(counted(count, word) for count, word in parts)
    trials = f"{study.blocks * len(study.workloads) * len(study.arms)} trials ({of_what})"
    if checked.expected_s is None:
        console.print(f"Nothing was run. The observation has {trials}; without --no-run, check says how long it takes.")
    else:
        takes, most = ("at most", "up to ") if study.stops_early else ("about", "")
        console.print(f"The observation will take {takes} {duration_text(checked.expected_s, 2)}: {most}{trials}.")
    console.print("Next: mend what fails, then check again." if checked.failures else "Next: bystander observe")


def _print_outlook(console: Console, checked: Checked) -> None:
    """Say what the last column of the table means."""
    from bystander.units import share_text

    if checked.outlooks:
        study = checked.study
        source = f"{checked.placebo_blocks} blocks in which {study.reference.name} just ran against itself"
        if checked.noise_of:
            source = f"the noise of record {checked.noise_of}, without what changed in it"
        console.print(
            f"Could show: the smallest change that {study.blocks} blocks would show in 8 of 10 such studies. "
            f"For {share_text(checked.change)}: the most blocks, and their time, of studies that would show that. "
            f"Simulated from {source}."
        )
        console.print()


def _print_trials(console: Console, checked: Checked) -> None:
    from rich.table import Table

    from bystander.units import share_text

    study = checked.study
    table = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="quiet")
    longest = max(len("workload"), *(len(workload.name) for workload in study.workloads))
    table.add_column("workload", width=min(longest, 36), no_wrap=True, overflow="ellipsis")
    for arm in study.arms if checked.tried else ():
        table.add_column(f"{arm.name}, once", no_wrap=True)
    if len(study.arms) > 1 and checked.tried:
        table.add_column("answers", no_wrap=True)
    if checked.outlooks:
        table.add_column("could show", no_wrap=True)
        table.add_column(f"for {share_text(checked.change)}", no_wrap=True)
    shown, rest = _workloads_to_show(checked)
    for w in shown:
        table.add_row(study.workloads[w].name, *_cells(checked, w))
    if checked.tried or checked.outlooks:
        console.print(table)
    if rest:
        console.print(f"and {rest} more that went well: --json names them", style="quiet")
    console.print()
    _print_outlook(console, checked)
    _print_commands(console, checked, shown)


def _workloads_to_show(checked: Checked) -> tuple[list[int], int]:
    """Return the workloads worth a line, those with a failure or another answer first, and how many others."""
    bad = {one.workload for one in checked.failures} | {one.workload for one in checked.differences}
    order = sorted(range(len(checked.study.workloads)), key=lambda w: w not in bad)
    shown = sorted(order[:_MOST_ROWS])
    return shown, len(order) - len(shown)


def _cells(checked: Checked, w: int) -> list[Text]:
    """Return a workload's cells behind its name."""
    from rich.text import Text

    from bystander.units import duration_text, share_text

    study, workload = checked.study, checked.study.workloads[w]
    outcomes = [one.outcome for one in checked.tried if one.workload == w]
    cells = [Text(duration_text(one.readings["elapsed"]) if one.status == 0 else "failed") for one in outcomes]
    if len(study.arms) > 1 and checked.tried:
        answer = Text("not asked for" if workload.answer is None else "the same")
        if differing := [one.arm for one in checked.differences if one.workload == w]:
            accepted = all(study.accepted(w, arm) for arm in differing)
            answer = Text("accepted") if accepted else Text("DIFFERS", style="slower")
        cells.append(Text("unknown") if any(one.status != 0 for one in outcomes) else answer)
    for one in checked.outlooks:
        if one.workload == w:
            cells.append(Text(share_text(one.smallest) if math.isfinite(one.smallest) else "nothing"))
            blocks, seconds = one.blocks_for_change, one.seconds_for_change
            took = f" ({duration_text(seconds, 2)})" if math.isfinite(seconds) else ""
            cells.append(Text(f"{blocks:.0f}{took}" if math.isfinite(blocks) else "unknown"))
    return cells


def _print_commands(console: Console, checked: Checked, shown: list[int]) -> None:
    """Print what is run, the program as it was found; once where all arms run the same words."""
    from bystander.units import counted

    study = checked.study
    console.print("What is run:", style="quiet")
    for w in shown[:_MOST_COMMANDS]:
        workload = study.workloads[w]
        told: dict[str, list[str]] = {}
        for a, arm in enumerate(study.arms):
            command = checked.commands[w, a].command
            words = shlex.join([command.path, *command.argv[1:]])
            if workload.timed:
                often = workload.timed.iterations
                samples = f", {counted(often, 'iteration')} a sample" if often else ""
                words = f"{workload.timed.call} in {command.path}{samples}"
            told.setdefault(words, []).append(arm.name)
        for words, arms in told.items():
            who = workload.name if len(told) == 1 else f"{workload.name}, arm {', '.join(arms)}"
            console.print(f"  {who}: {words}", style="quiet", soft_wrap=True)
    if (rest := len(study.workloads) - _MOST_COMMANDS) > 0:
        console.print(f"  and {rest} more: --json names them", style="quiet")
    console.print()


def _print_difference(console: Console, checked: Checked, workload: int, arm: int, lines: tuple[str, ...]) -> None:
    study = checked.study
    name = study.workloads[workload].name
    console.print(f"{name}: {study.arms[arm].name} gives another answer than {study.reference.name},")
    if reason := study.accepted(workload, arm):
        console.print(f"    accepted: {reason}")
    for line in lines:
        console.print(f"    {line}", no_wrap=True, overflow="ellipsis", style="quiet")
    console.print()
