"""`bystander check`."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

import typer

from bystander.cli.exit_codes import FAILED
from bystander.cli.options import JsonOption, OnlyOption, StudyOption, here, variables

if TYPE_CHECKING:
    from rich.console import Console

    from bystander.flow.check import Checked

__all__ = ["EXAMPLE", "check", "show"]

EXAMPLE = "Example: bystander check"
_MOST_COMMANDS = 20


def check(study: StudyOption = None, only: OnlyOption = None, json: JsonOption = False) -> None:
    """Read the study, make the arms ready, try each workload once per arm, and say how long it will take."""
    from bystander.cli.console import output
    from bystander.cli.live import Display
    from bystander.flow.check import check as run
    from bystander.flow.check import checked_json

    with Display(quiet=True) as display:
        checked = run(study, here(), variables(), display, only or ())
    if json:
        typer.echo(checked_json(checked))
    else:
        show(output(), checked)
    if checked.failures:
        raise typer.Exit(FAILED)


def show(console: Console, checked: Checked) -> None:
    """Print what a check found, for people."""
    from bystander.design.machine import machine_sentences, machine_title
    from bystander.units import duration_text

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
    counted = ", ".join(f"{count} {word}{'' if count == 1 else 's'}" for count, word in parts)
    trials = study.blocks * len(study.workloads) * len(study.arms)
    console.print(
        f"The observation will take about {duration_text(checked.expected_s, 2)}: {trials} trials ({counted})."
    )
    console.print("Next: mend what fails, then check again." if checked.failures else "Next: bystander observe")


def _print_trials(console: Console, checked: Checked) -> None:
    from rich.table import Table
    from rich.text import Text

    from bystander.units import duration_text

    study = checked.study
    table = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="quiet")
    longest = max(len("workload"), *(len(workload.name) for workload in study.workloads))
    table.add_column("workload", width=min(longest, 36), no_wrap=True, overflow="ellipsis")
    for arm in study.arms:
        table.add_column(f"{arm.name}, once", no_wrap=True)
    if len(study.arms) > 1:
        table.add_column("answers", no_wrap=True)
    differing = {one.workload for one in checked.differences}
    times = {(one.workload, one.arm): one.outcome for one in checked.tried}
    for w, workload in enumerate(study.workloads):
        cells = []
        for a in range(len(study.arms)):
            outcome = times[w, a]
            cells.append(duration_text(outcome.readings["elapsed"]) if outcome.status == 0 else "failed")
        answer = Text("not asked for" if workload.answer is None else "the same")
        if w in differing:
            answer = Text("DIFFERS", style="slower")
        if any(times[w, a].status != 0 for a in range(len(study.arms))):
            answer = Text("unknown")
        table.add_row(workload.name, *cells, *([answer] if len(study.arms) > 1 else []))
    console.print(table)
    console.print()
    _print_commands(console, checked)


def _print_commands(console: Console, checked: Checked) -> None:
    """Print what is run, the program as it was found; once where all arms run the same words."""
    study = checked.study
    console.print("What is run:", style="quiet")
    for w, workload in enumerate(study.workloads[:_MOST_COMMANDS]):
        told: dict[str, list[str]] = {}
        for a, arm in enumerate(study.arms):
            command = checked.commands[w, a].command
            told.setdefault(shlex.join([command.path, *command.argv[1:]]), []).append(arm.name)
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
    for line in lines:
        console.print(f"    {line}", no_wrap=True, overflow="ellipsis", style="quiet")
    console.print()
