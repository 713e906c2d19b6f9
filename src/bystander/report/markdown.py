"""The report as text for a review comment (GitHub-flavoured Markdown tables)."""

from __future__ import annotations

from collections.abc import Sequence

from bystander.design import machine_sentences, machine_title
from bystander.report.common import (
    CEILING_HEADS,
    LOAD_HEADS,
    QUOTED,
    QUOTED_HEADS,
    ceiling_table,
    load_caption,
    load_table,
    looks_table,
    methods,
    outcome,
)
from bystander.report.marked import Marked, code_block, joined, md
from bystander.report.pieces.accounts import drawn_accounts
from bystander.report.pieces.rows import changed_secondary, told_notes
from bystander.report.theme import MARKS
from bystander.units import moment_text, quantity_text
from bystander.verdicts import (
    Decision,
    GateFinding,
    answer_sentence,
    blocks_text,
    change_text,
    failure_sentence,
    gate_sentences,
    interval_text,
    medians_text,
    memory_sentence,
    minutes_sentence,
    next_sentence,
    placebo_sentence,
    quoted_texts,
    repeat_lines,
    whole_lines,
)

__all__ = ["markdown"]

_EMPTY = Marked("")


def markdown(decision: Decision, gate: GateFinding | None = None) -> str:
    """Return the report of a decision, and what came of a gate; every text in it is escaped by its type."""
    head = decision.head
    lines = [md("### {}", head.study.name), _EMPTY, md("**{}**", outcome(decision)), _EMPTY]
    lines += [md("> {}", note.text) for note in decision.notes]
    lines += [md("> Exploration: {}; the stated risk does not hold.", change) for change in decision.exploration]
    lines += [md("> {}", sentence) for sentence in gate_sentences(gate)] if gate else []
    lines += (
        [_EMPTY] if gate or decision.notes or decision.exploration else []
    )  # or what follows would belong to the last
    lines += [md("{}\n", text) for text in _asides(decision) if text]
    lines += _comparisons(decision) if decision.candidates else _alone(decision)
    lines += _ceilings(decision)
    lines += _failures(decision)
    lines += _accounts(decision)
    lines += _quoted(decision)
    lines += [_EMPTY, md("<details><summary>What was compared, where and how</summary>"), _EMPTY]
    lines += [md("- arm **{}**: {}", arm.name, arm.identity) for arm in head.arms]
    lines += [md("- machine: {}. {}", machine_title(head.machine), " ".join(machine_sentences(head.machine)))]
    lines += [md("- record {} of {}, Bystander {}", head.name, moment_text(head.started_wall_s), head.version)]
    lines += [md("- {}", text) for text in methods(decision)]
    lines += _looks(decision)
    lines += _load_tables(decision)
    lines += [_EMPTY, *code_block(repeat_lines(decision)), _EMPTY, md("</details>"), _EMPTY]
    lines += [*_next(decision), _EMPTY]
    return str(joined("\n", lines))


def _next(decision: Decision) -> list[Marked]:
    """Return what to do next, with commands to be copied in blocks of their own."""
    lines: list[Marked] = []
    for line in next_sentence(decision).split("\n"):
        lines += [_EMPTY, *code_block([line.strip()]), _EMPTY] if line.startswith("  ") else [md("{}", line)]
    return lines


def _looks(decision: Decision) -> list[Marked]:
    table = looks_table(decision)
    lines = [_row(cells) for cells in table]
    return [_EMPTY, lines[0], md("| --- " * len(table[0]) + "|"), *lines[1:]] if table else []


def _ceilings(decision: Decision) -> list[Marked]:
    """Return a table of all ceilings."""
    if not decision.ceilings:
        return []
    rows = map(_row, ceiling_table(decision))
    lines = [_EMPTY, _row(CEILING_HEADS), md("| --- " * len(CEILING_HEADS) + "|"), *rows]
    told = minutes_sentence(decision)
    return [*lines, _EMPTY, md("{}", told)] if told else lines


def _quoted(decision: Decision) -> list[Marked]:
    """Return least, middle and greatest of every row, marked as what nothing is tested on."""
    if not decision.primary:
        return []
    heads = ("workload", *QUOTED_HEADS)
    rows = [_row((decision.name_of(row), *quoted_texts(row))) for row in decision.primary]
    summary = md("<details><summary>{}</summary>", QUOTED)
    return [_EMPTY, summary, _EMPTY, _row(heads), md("| --- " * len(heads) + "|"), *rows, _EMPTY, md("</details>")]


def _load_tables(decision: Decision) -> list[Marked]:
    """Return of what the whole load of each candidate is made."""
    lines: list[Marked] = []
    for load in decision.loads:
        if table := load_table(load):
            lines += [_EMPTY, md("{}", load_caption(load)), _EMPTY, _row(LOAD_HEADS)]
            lines += [md("| --- " * len(LOAD_HEADS) + "|"), *map(_row, table)]
    return lines


def _row(cells: Sequence[object]) -> Marked:
    """Return a row of a table."""
    return md("| {} |", joined(" | ", list(cells)))


def _asides(decision: Decision) -> tuple[str, ...]:
    return answer_sentence(decision), memory_sentence(decision), *whole_lines(decision), placebo_sentence(decision)


def _comparisons(decision: Decision) -> list[Marked]:
    lines = [_row(("workload", "verdict", decision.measure.label, "change", "blocks")), md("| --- " * 5 + "|")]
    for row in decision.primary:
        change = f"{change_text(row)}, {interval_text(row)}"
        verdict = f"{MARKS[row.verdict]} {row.verdict}"
        blocks = blocks_text(row) if row.blocks else "unpaired"
        lines.append(_row((decision.name_of(row), verdict, medians_text(row), change, blocks)))
    remarks = [
        md("- {}: {}", decision.name_of(row), text) for row in decision.primary for text in told_notes(row)
    ]  # fmt: skip
    lines += [_EMPTY, *remarks] if remarks else []
    changed = changed_secondary(decision)
    if changed:
        lines += [_EMPTY, md("Other measures that changed:"), _EMPTY]
        lines += [
            md("- {}: {} {}, {}, {}", decision.name_of(row), row.measure.label, row.verdict, change_text(row),
               medians_text(row))
            for row in changed
        ]  # fmt: skip
    return lines


def _accounts(decision: Decision) -> list[Marked]:
    """Return where it changed, of rows that were inspected in both arms."""
    lines: list[Marked] = []
    for _, one in drawn_accounts(decision):
        lines += [_EMPTY, md("Where **{}** changed: {}", one.name, " ".join(one.told.sentences)), _EMPTY]
        if one.leads:
            lines += [md("| place | change (interval) | calls | |"), md("| --- | --- | --- | --- |")]
        for lead in one.leads:
            told = lead.told
            place = md("{}<br>{}", told.label, told.where) if told.where else told.label
            lines.append(_row((place, lead.change, told.calls, told.said)))
        if one.told.subjects:
            lines += [_EMPTY, md("Commits between the arms: {}", "; ".join(one.told.subjects))]
    return lines


def _failures(decision: Decision) -> list[Marked]:
    """Return where trials failed, with the last line of the first one."""
    if not decision.failures:
        return []
    lines = [_EMPTY, md("Trials that failed:"), _EMPTY]
    for failure in decision.failures:
        said = failure.said.splitlines()[-1:] or [""]
        lines.append(md("- {}{}{}", failure_sentence(failure), ": " if said[0] else "", said[0]))
    return lines


def _alone(decision: Decision) -> list[Marked]:
    lines = [md("| workload | median | its interval | trials |"), md("| --- | --- | --- | --- |")]
    for single in decision.singles:
        s, unit = single.summary, single.measure.unit
        if single.measure != decision.measure:
            continue
        if s is None:
            lines.append(_row((single.workload, f"all {single.failed} failed", "", single.failed)))
            continue
        ends = f"{quantity_text(s.median_low, unit)} to {quantity_text(s.median_high, unit)}"
        lines.append(_row((single.workload, quantity_text(s.median, unit), ends, s.size)))
    return lines
