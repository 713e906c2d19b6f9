"""The report as one self-contained page."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from bystander.design import machine_sentences, machine_title
from bystander.report import common
from bystander.report.environment import shell, template_environment
from bystander.report.pieces.lanes import Lanes
from bystander.report.pieces.rows import rows_view
from bystander.units import moment_text, quantity_text
from bystander.verdicts import (
    Decision,
    GateFinding,
    Single,
    answer_sentence,
    change_text,
    compared_text,
    failure_sentence,
    gate_sentences,
    interval_text,
    medians_text,
    memory_sentence,
    minutes_sentence,
    next_sentence,
    placebo_sentence,
    repeat_lines,
    whole_lines,
)

__all__ = ["PIECES", "page"]

PIECES = ("forest", "strip", "blocks", "shifts", "accounts", "lanes", "rows")
_FAILURES_NAMED = 4

SeenTrials = Mapping[str, Sequence[tuple[str, Lanes | None]]]


def page(decision: Decision, gate: GateFinding | None = None, seen: SeenTrials | None = None) -> str:
    """Return the page of a decision, and what came of a gate; everything in it is escaped and nothing is fetched.

    Parameters
    ----------
    seen : mapping, optional
        By workload: trials over time, what each is and its picture; by default they are named only.
    """
    environment = template_environment()
    environment.filters["failure"] = failure_sentence
    machine = decision.head.machine
    return environment.get_template("page.html").render(
        decision=decision,
        head=decision.head,
        study=decision.head.study,
        compared=compared_text(decision),
        outcome=common.outcome(decision),
        warnings=_warnings(decision, gate),
        together=whole_lines(decision),
        load_tables=[(common.load_caption(one), common.load_table(one)) for one in decision.loads if one.parts],
        load_heads=common.LOAD_HEADS,
        ceilings=common.ceiling_table(decision),
        ceiling_heads=common.CEILING_HEADS,
        minutes=minutes_sentence(decision),
        placebo=placebo_sentence(decision),
        placebo_rows=_placebo_rows(decision),
        view=rows_view(decision, seen if seen is not None else _named(decision)),
        caption=_caption(decision),
        alone=[_alone(single) for single in decision.singles if single.measure == decision.measure],
        started=moment_text(decision.head.started_wall_s),
        machine_title=machine_title(machine),
        machine_sentences=machine_sentences(machine),
        methods=common.methods(decision),
        looks=common.looks_table(decision),
        repeat=repeat_lines(decision),
        after=next_sentence(decision).split("\n"),
        **shell(environment, PIECES, "page.css"),
    )


def _caption(decision: Decision) -> str:
    """Return how the picture is read."""
    study = decision.head.study
    names = dict.fromkeys(study.names(comparison)[0] for comparison in study.all_comparisons)
    against = ", ".join(names) or study.reference.name
    return f'Each bar is an interval, its mark the estimate; {against} is "no change". The pale band is the margin.'


def _warnings(decision: Decision, gate: GateFinding | None) -> list[str]:
    """Return what is wrong or not known, a sentence or more each, what matters most first."""
    failures = decision.failures
    texts = [note.text for note in decision.notes]
    texts += [
        f"Exploration: {change}. Chosen after the readings were seen, this voids the stated risk."
        for change in decision.exploration
    ]
    texts += [" ".join(answer_sentence(decision).split()), memory_sentence(decision)]
    texts += gate_sentences(gate) if gate else ()
    texts += [f"{failure_sentence(one)}." for one in failures[:_FAILURES_NAMED]]
    texts += (
        [f"{len(failures) - _FAILURES_NAMED} more workloads with failures."] if len(failures) > _FAILURES_NAMED else []
    )
    return [text for text in texts if text]


def _placebo_rows(decision: Decision) -> list[tuple[str, ...]]:
    return [
        (
            row.workload, "no difference shown" if row.verdict == "unclear" else row.verdict, change_text(row),
            interval_text(row), medians_text(row),
        )
        for row in decision.placebo
    ]  # fmt: skip


def _alone(single: Single) -> tuple[str, ...]:
    """Return the cells of a workload under its only arm."""
    if single.summary is None:
        return single.workload, f"all {single.failed} trials failed", "", "", ""
    one, unit = single.summary, single.measure.unit
    median, low, high, least, most = (
        quantity_text(v, unit) for v in (one.median, one.median_low, one.median_high, one.least, one.most)
    )
    failed = f", {single.failed} failed" if single.failed else ""
    return single.workload, median, f"{low} to {high}", f"{least} to {most}", f"{one.size}{failed}"


def _named(decision: Decision) -> SeenTrials:
    """Return which trials can be seen over time, without their pictures."""
    return {
        one.workload: [
            (f"{name} ({what})", None)
            for name, what in ((one.fastest, "the fastest"), (one.middle, "the middle"), (one.slowest, "the slowest"))
        ]
        for one in decision.to_see
    }
