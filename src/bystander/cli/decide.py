"""`bystander decide`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.given.gate import GateAlsoOption, GateOption, gate_code
from bystander.cli.given.options import (
    ArchiveOption,
    ArmOption,
    JsonOption,
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
from bystander.cli.shown.said import hand_over
from bystander.errors import UsageError

if TYPE_CHECKING:
    from rich.console import Console

    from bystander.design import Measure
    from bystander.verdicts import Decision, Since

__all__ = ["EXAMPLE", "decide", "show", "show_since"]

EXAMPLE = (
    "Examples: bystander decide | bystander decide --gate slower,failed | bystander decide harbour-office-1 --json"
)


def decide(
    record: RecordArgument = None,
    measure: MeasureOption = None,
    margin: MarginOption = None,
    risk: RiskOption = None,
    arm: ArmOption = None,
    only: OnlyOption = None,
    order: OrderOption = None,
    gate: GateOption = None,
    gate_also: GateAlsoOption = None,
    since: Annotated[
        str | None, typer.Option("--since", metavar="RECORD", help="Say what is new, mended or persisting since it.")
    ] = None,
    all_measures: Annotated[bool, typer.Option("--all-measures", help="Show all other measures too.")] = False,
    all_rows: Annotated[bool, typer.Option("--all-rows", help="Show every workload, however many there are.")] = False,
    json: JsonOption = False,
    redacted: RedactedOption = False,
    archive: ArchiveOption = None,
) -> None:
    """Decide a record: slower, faster, same or unclear, per workload. Nothing is run."""
    from bystander.flow.commands.decide import beside, decided, decision_json
    from bystander.flow.places import find_archive

    options = decide_options(measure, margin, risk, arm, only, order)
    found, repeated = find_archive(archive, variables(), here()), given(None, archive, only)
    decision, finding = decided(found, record, options, gate, gate_also, repeated, redacted)
    if since and redacted:
        raise UsageError("--since and --redacted do not go together: the earlier record is not left out")
    told = beside(found, decision, since)
    if json:
        hand_over(decision_json(decision, finding, told))
    else:
        show(decision, all_measures, all_rows)
        if told:
            show_since(decision, told)
    if finding is not None and (code := gate_code(finding)):
        raise typer.Exit(code)


def show_since(decision: Decision, told: Since) -> None:
    """Print how a decision stands beside an earlier record."""
    from bystander.cli.shown.console import output, tell
    from bystander.verdicts import since_lines

    console = output()
    console.print()
    for line in since_lines(decision, told):
        tell(console, line)


def show(decision: Decision, all_measures: bool = False, all_rows: bool = False) -> None:
    """Print a decision for people."""
    from bystander.cli.shown.console import output, tell
    from bystander.cli.shown.tables import print_ceilings, print_quoted, print_rows, print_secondary, print_singles
    from bystander.design import confirming
    from bystander.units import counted, moment_text
    from bystander.verdicts import (
        answer_sentence,
        ceilings_sentence,
        compared_text,
        looks_sentence,
        memory_sentence,
        next_sentence,
        outcome_sentence,
        placebo_sentence,
        repeated_sentence,
        see_sentence,
        settled_sentence,
        suite_sentence,
        whole_lines,
    )

    console = output()
    head = decision.head
    console.print(f"{head.name}: {head.study.name}", style="title")
    for note in decision.notes:
        console.print(note.text)
    for change in decision.exploration:
        console.print(f"Exploration: {change}. Chosen after the readings were seen, this voids the stated risk.")
    if not decision.candidates:
        primary = [single for single in decision.singles if single.measure == decision.measure]
        counts = {single.values.size + single.failed for single in primary}
        each = " each" if len(primary) > 1 else ""
        trials = f", {counted(counts.pop(), 'trial')}{each}" if len(counts) == 1 else ""
        when = f"{head.origin} {moment_text(head.started_wall_s)}"
        console.print(f"{decision.measure.label}{trials}; {when}", style="quiet")
        console.print()
        print_singles(console, primary)
        _print_brief(console, decision)
        for text in decision.queued:
            tell(console, text)
        _print_failures(console, decision)
        if decision.placebo:
            console.print(placebo_sentence(decision))
    else:
        by = f"by {decision.measure.label}; {head.origin} {moment_text(head.started_wall_s)}"
        console.print(f"{compared_text(decision)}, {by}", style="quiet")
        console.print()
        if decision.primary:
            print_rows(console, decision, all_rows)
        _print_notes(console, decision, all_rows)
        _print_failures(console, decision)
        print_quoted(console, decision, all_rows)
        console.print()
        shown, left = print_secondary(console, decision, all_measures)
        if left > 0:
            console.print(f"{left} more, smaller or further down: --all-measures shows them.", style="quiet")
        if shown or left:
            console.print()
        for text in (
            " ".join(filter(None, (outcome_sentence(decision), ceilings_sentence(decision)))),
            answer_sentence(decision),
            memory_sentence(decision),
            *whole_lines(decision),
            placebo_sentence(decision),
        ):
            if text:
                tell(console, text)
        console.print(suite_sentence(decision), style="quiet")
        if text := repeated_sentence(decision.repeated, confirming(decision.head, decision.given)):
            tell(console, text)
        for text in (looks_sentence(decision), settled_sentence(decision)):
            if text:
                console.print(text, style="quiet")
    if decision.ceilings:
        console.print()
        if not decision.candidates:
            console.print(ceilings_sentence(decision))
        print_ceilings(console, decision)
    if text := see_sentence(decision):
        tell(console, text)
    tell(console, next_sentence(decision))


_UNTOLD = ("beyond-margin", "answer-differs")  # seen in the table, or told below


def _print_notes(console: Console, decision: Decision, all_rows: bool) -> None:
    from bystander.cli.shown.tables import rows_to_show
    from bystander.units import listed
    from bystander.verdicts import lead_text

    by_text: dict[str, list[str]] = {}
    told = [(decision.name_of(row), lead_text(decision, row)) for row in rows_to_show(decision.primary, all_rows)[0]]
    for row in rows_to_show(decision.primary, all_rows)[0]:
        name = decision.name_of(row)
        for note in row.notes:
            if note.code not in _UNTOLD:
                by_text.setdefault(note.text, []).append(name)
    if by_text:
        console.print()
    own: dict[str, list[str]] = {}  # what is said of one row alone stands together
    for text, names in by_text.items():
        if len(names) == 1:
            own.setdefault(names[0], []).append(text)
    for name, text in told:
        if text:
            own.setdefault(name, []).append(text)
    if own and not by_text:
        console.print()
    for name, said in own.items():
        console.print(f"{name}: {' '.join(said)}")
    for text, names in by_text.items():
        if len(names) > 1:
            console.print(f"{listed(names, 3 if len(names) > 4 else 4)}: {text}")


_LINES_SAID, _FAILURES_TOLD = 3, 8


def _print_failures(console: Console, decision: Decision) -> None:
    """Print where trials failed, and the last lines of the first one."""
    from bystander.verdicts import failure_sentence

    if decision.failures:
        console.print()
    for failure in decision.failures[:_FAILURES_TOLD]:
        console.print(failure_sentence(failure) + (":" if failure.said else "."))
        for line in failure.said.splitlines()[-_LINES_SAID:]:
            console.print(f"    {line}", style="quiet", no_wrap=True, overflow="ellipsis")
    if (rest := len(decision.failures) - _FAILURES_TOLD) > 0:
        console.print(f"{rest} more workloads and arms with failures: --json names them.", style="quiet")


_BRIEF = ("elapsed", "cpu", "waiting", "peak_memory")


def _brief(measure: Measure) -> bool:
    """Whether a measure is shown beside the main one: few are, and what a program says of itself is."""
    return measure.name in _BRIEF or measure.name.startswith("reading:")


def _print_brief(console: Console, decision: Decision) -> None:
    """Print the medians of the main other measures of one arm alone, one line a workload."""
    from bystander.units import quantity_text

    for workload in dict.fromkeys(single.workload for single in decision.singles):
        texts = []
        for s in decision.singles:
            if s.workload == workload and s.measure != decision.measure and _brief(s.measure) and s.summary:
                most = "at most " if 2 * s.at_floor > s.summary.size else ""
                texts.append(f"{s.measure.label} {most}{quantity_text(s.summary.median, s.measure.unit)}")
        if texts:
            several = len({single.workload for single in decision.singles}) > 1
            console.print(f"{workload + ': ' if several else ''}{', '.join(texts)}", style="quiet")
