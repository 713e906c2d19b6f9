"""The report as text for a review comment (GitHub-flavoured Markdown tables)."""

from __future__ import annotations

from bystander.design import machine_sentences, machine_title
from bystander.report.accounts import drawn_accounts
from bystander.report.common import changed_secondary, looks_table, methods, told_notes
from bystander.report.theme import MARKS
from bystander.units import moment_text, plain_text, quantity_text
from bystander.verdicts import (
    Decision,
    Row,
    answer_sentence,
    blocks_text,
    change_text,
    failure_sentence,
    interval_text,
    medians_text,
    next_sentence,
    outcome_sentence,
    placebo_sentence,
    repeat_lines,
    weighted_sentence,
)

__all__ = ["markdown"]

_ESCAPED = str.maketrans({c: "\\" + c for c in "\\`*_{}[]<>#|~"} | {"\n": " "})


def _safe(text: str) -> str:
    """Return text in which nothing is read as markup."""
    return plain_text(text).translate(_ESCAPED).replace("@", "@\u200b")


def markdown(decision: Decision) -> str:
    """Return the report of a decision."""
    head = decision.head
    lines = [f"### {_safe(head.study.name)}", "", f"**{_safe(outcome_sentence(decision))}**", ""]
    lines += [f"> {_safe(note.text)}" for note in decision.notes]
    lines += [f"> Exploration: {_safe(change)}; the stated risk does not hold." for change in decision.exploration]
    lines += [_safe(text) + "\n" for text in _asides(decision) if text]
    lines += _comparisons(decision) if decision.candidates else _alone(decision)
    lines += _failures(decision)
    lines += _accounts(decision)
    lines += ["", "<details><summary>What was compared, where and how</summary>", ""]
    lines += [f"- arm **{_safe(arm.name)}**: {_safe(arm.identity)}" for arm in head.arms]
    lines += [f"- machine: {_safe(machine_title(head.machine))}. {_safe(' '.join(machine_sentences(head.machine)))}"]
    lines += [f"- record {_safe(head.name)} of {moment_text(head.started_wall_s)}, Bystander {_safe(head.version)}"]
    lines += [f"- {_safe(text)}" for text in methods(decision)]
    lines += _looks(decision)
    lines += [
        "",
        "```",
        *repeat_lines(decision),
        "```",
        "",
        "</details>",
        "",
        _safe(next_sentence(decision)),
        "",
    ]
    return "\n".join(lines)


def _looks(decision: Decision) -> list[str]:
    table = looks_table(decision)
    lines = [f"| {' | '.join(cells)} |" for cells in table]
    return ["", lines[0], "| --- " * len(table[0]) + "|", *lines[1:]] if table else []


def _asides(decision: Decision) -> tuple[str, ...]:
    return answer_sentence(decision), weighted_sentence(decision), placebo_sentence(decision)


def _comparisons(decision: Decision) -> list[str]:
    lines = [
        f"| workload | verdict | {_safe(decision.measure.label)} | change | blocks |",
        "| --- | --- | --- | --- | --- |",
    ]
    for row in decision.primary:
        name = _name(decision, row)
        lines.append(
            f"| {name} | {MARKS[row.verdict]} {row.verdict} | {medians_text(row)} | {change_text(row)}, "
            f"{interval_text(row)} | {blocks_text(row) if row.blocks else 'unpaired'} |"
        )
    remarks = [f"- {_name(decision, row)}: {_safe(text)}" for row in decision.primary for text in told_notes(row)]
    lines += ["", *remarks] if remarks else []
    changed = changed_secondary(decision)
    if changed:
        lines += ["", "Other measures that changed:", ""]
        lines += [
            f"- {_name(decision, row)}: {_safe(row.measure.label)} {row.verdict}, "
            f"{change_text(row)}, {medians_text(row)}"
            for row in changed
        ]
    return lines


def _accounts(decision: Decision) -> list[str]:
    """Return where it changed, of rows that were inspected in both arms."""
    lines: list[str] = []
    for one in drawn_accounts(decision):
        lines += ["", f"Where **{_safe(one.name)}** changed: " + _safe(" ".join(one.told.sentences)), ""]
        if one.leads:
            lines += ["| place | change (interval) | calls | |", "| --- | --- | --- | --- |"]
        for lead in one.leads:
            told = lead.told
            place = f"{_safe(told.label)}<br>{_safe(told.where)}" if told.where else _safe(told.label)
            lines.append(f"| {place} | {lead.change} | {_safe(told.calls)} | {_safe(told.said)} |")
        if one.told.subjects:
            lines += ["", f"Commits between the arms: {_safe('; '.join(one.told.subjects))}"]
    return lines


def _failures(decision: Decision) -> list[str]:
    """Return where trials failed, with the last line of the first one."""
    if not decision.failures:
        return []
    lines = ["", "Trials that failed:", ""]
    for failure in decision.failures:
        said = failure.said.splitlines()[-1:] or [""]
        lines.append(f"- {_safe(failure_sentence(failure))}{': ' if said[0] else ''}{_safe(said[0])}")
    return lines


def _name(decision: Decision, row: Row) -> str:
    return _safe(decision.name_of(row))


def _alone(decision: Decision) -> list[str]:
    lines = ["| workload | median | its interval | trials |", "| --- | --- | --- | --- |"]
    for single in decision.singles:
        s, unit = single.summary, single.measure.unit
        if single.measure != decision.measure:
            continue
        if s is None:
            lines.append(f"| {_safe(single.workload)} | all {single.failed} failed | | {single.failed} |")
            continue
        ends = f"{quantity_text(s.median_low, unit)} to {quantity_text(s.median_high, unit)}"
        lines.append(f"| {_safe(single.workload)} | {quantity_text(s.median, unit)} | {ends} | {s.size} |")
    return lines
