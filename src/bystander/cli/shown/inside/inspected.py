"""What inspections found, on a terminal or as a document: of two states the accounts, of one the table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from bystander.cli.given.options import given
from bystander.cli.shown.said import hand_over

if TYPE_CHECKING:
    from bystander.flow.leads.shown import Wanted

__all__ = ["Form", "say_next", "show_closely", "show_growing", "show_inspected", "show_slow"]


@dataclass(frozen=True)
class Form:
    """What is shown and how; what is brief is followed by more soon."""

    wanted: Wanted
    first: int | None
    everything: bool
    json: bool
    archive: Path | None
    brief: bool = False


def show_inspected(target: Path, record: str | None, form: Form, number: int | None = None) -> None:
    """Print accounts of two states, or the table of one."""
    from bystander.flow.leads.shown import leads, leads_json

    shown = leads(target, record, form.wanted, number)
    if form.json:
        hand_over(leads_json(shown))
        return
    from bystander.cli.shown.console import output
    from bystander.cli.shown.inside.accounts import print_account, print_changes
    from bystander.cli.shown.inside.places import FIRST, print_places

    console = output()
    for position, account in enumerate(shown.accounts):
        if position:
            console.print()
        print_account(console, account, form.first or FIRST)
        if form.wanted.order or form.everything:
            print_changes(console, account, shown.order, form.first or FIRST, form.everything)
    if shown.table:
        print_places(console, shown.table, shown.order, form.first or FIRST, form.everything)
    if form.brief:
        console.print()
        return
    if shown.testable:
        _say_try(shown.table.run if shown.table else shown.accounts[0].run, form)
    say_next(shown.table.run if shown.table else shown.accounts[0].run, form, two=not shown.table)


def _say_try(run: str, form: Form) -> None:
    """Say how a lead, or a guess, is tested."""
    from bystander.cli.shown.console import output, tell
    from bystander.design import command_line

    words = ["leads", run, *(word for name in form.wanted.only for word in ("--only", name))]
    words += ["--arm", form.wanted.arm] if form.wanted.arm else []
    again = command_line(*words, "--try", "1", given=given(archive=form.archive))
    tell(output(), f"To test the first lead or guess, a study of its own (or another, by its number):\n  {again}")


def say_next(run: str, form: Form, two: bool) -> None:
    """Say what one would do next."""
    from bystander.cli.shown.console import output, tell
    from bystander.design import command_line

    repeat = given(archive=form.archive)
    if two:
        words = ("leads", run.partition("/")[0], "--order", "alone" if form.wanted.order != "alone" else "whole")
        tell(output(), f"Next: all places of both arms, from what is kept:\n  {command_line(*words, given=repeat)}")
        return
    other = "alone" if form.wanted.order != "alone" else "whole"
    again = command_line("leads", run, "--order", other, given=repeat)
    tell(output(), f"Next: the same in another order, from what is kept:\n  {again}")


def show_closely(
    target: Path, record: str | None, only: Sequence[str], arm: str | None, place: str, arguments: bool, json: bool
) -> None:
    """Print how often the lines of a function ran, or its calls by what they were given."""
    from bystander.flow.leads.closely import close_ups, closely_json

    found = close_ups(target, record, only, arm, place, arguments)
    if json:
        hand_over(closely_json(found, arguments))
        return
    from bystander.cli.shown.console import output
    from bystander.cli.shown.inside.closely import print_arguments, print_executions

    (print_arguments if arguments else print_executions)(output(), found)


def show_growing(
    target: Path, record: str | None, only: Sequence[str], view: str | None, first: int | None, everything: bool,
    json: bool,
) -> None:  # fmt: skip
    """Print how a workload grows with an input."""
    from bystander.flow.leads.several import growing_json, growing_of

    found = growing_of(target, record, only, view)
    if json:
        hand_over(growing_json(found))
        return
    from bystander.cli.shown.console import output
    from bystander.cli.shown.inside.growing import print_growing
    from bystander.cli.shown.inside.places import FIRST

    print_growing(output(), found, first or FIRST, everything)


def show_slow(
    target: Path, record: str | None, only: Sequence[str], arm: str | None, view: str | None, first: int | None,
    everything: bool, json: bool,
) -> None:  # fmt: skip
    """Print in which places slow trials differ from typical ones."""
    from bystander.flow.leads.several import slow_json, slow_of

    found = slow_of(target, record, only, arm, view)
    if json:
        hand_over(slow_json(found))
        return
    from bystander.cli.shown.console import output
    from bystander.cli.shown.inside.places import FIRST
    from bystander.cli.shown.inside.slow import print_slow

    print_slow(output(), found, first or FIRST, everything)
