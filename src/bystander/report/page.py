"""The report as one self-contained page."""

from __future__ import annotations

from bystander.design import machine_sentences, machine_title
from bystander.report import common
from bystander.report.accounts import drawn_accounts
from bystander.report.environment import page_parts, template_environment
from bystander.report.forest import forest
from bystander.report.strips import strip
from bystander.report.theme import COLOURS, MARKS
from bystander.units import moment_text, quantity_text
from bystander.verdicts import (
    Decision,
    GateFinding,
    answer_sentence,
    change_text,
    compared_text,
    failure_sentence,
    gate_sentences,
    interval_text,
    medians_text,
    minutes_sentence,
    next_sentence,
    placebo_sentence,
    quoted_texts,
    repeat_lines,
    row_sentence,
    saved_text,
    whole_lines,
)

__all__ = ["page"]


def _references(decision: Decision) -> str:
    """Return the names of the arms that others are held against."""
    study = decision.head.study
    names = dict.fromkeys(study.names(comparison)[0] for comparison in study.all_comparisons)
    return ", ".join(names) or study.reference.name


def page(decision: Decision, gate: GateFinding | None = None) -> str:
    """Return the page of a decision, and what came of a gate; everything in it is escaped and nothing is fetched."""
    environment = template_environment()
    environment.filters.update(
        change=change_text, level=interval_text, medians=medians_text, sentence=row_sentence, saved=saved_text,
        failure=failure_sentence, quantity=quantity_text, notes=common.told_notes,
    )  # fmt: skip
    machine = decision.head.machine
    return environment.get_template("page.html").render(
        decision=decision,
        head=decision.head,
        study=decision.head.study,
        compared=compared_text(decision),
        references=_references(decision),
        outcome=common.outcome(decision),
        warnings=[text for text in (answer_sentence(decision), *(gate_sentences(gate) if gate else ())) if text],
        quoted={row.key: quoted_texts(row) for row in decision.primary},
        together=whole_lines(decision),
        load_tables=[(common.load_caption(one), common.load_table(one)) for one in decision.loads if one.parts],
        load_heads=common.LOAD_HEADS,
        ceilings=common.ceiling_table(decision),
        ceiling_heads=common.CEILING_HEADS,
        minutes=minutes_sentence(decision),
        placebo=placebo_sentence(decision),
        after=next_sentence(decision),
        parts=common.parts(decision),
        to_see={one.workload: one for one in decision.to_see},
        forest=forest(decision),
        strips={row.key: strip(decision, row) for row in decision.primary},
        accounts=drawn_accounts(decision),
        secondary=common.changed_secondary(decision),
        alone=[single for single in decision.singles if single.measure == decision.measure],
        started=moment_text(decision.head.started_wall_s),
        machine_title=machine_title(machine),
        machine_sentences=machine_sentences(machine),
        methods=common.methods(decision),
        looks=common.looks_table(decision),
        repeat=repeat_lines(decision),
        colours=COLOURS,
        **page_parts(environment, "page.css", colours=COLOURS),
        marks=MARKS,
    )
