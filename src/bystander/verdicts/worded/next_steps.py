"""What one would do next, with the command that does it on a line of its own; none where none could work."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from bystander.design import (
    check_again,
    command_line,
    inspect_again,
    observe_again,
    only_options,
    printed_options,
    unbraced,
)
from bystander.verdicts.ceilings import CeilingRow
from bystander.verdicts.decided.gate import GateFinding
from bystander.verdicts.types import Decision, Row
from bystander.verdicts.worded.ceilings import beyond_text, ceiling_text
from bystander.verdicts.worded.sentences import row_sentence
from bystander.verdicts.words import Verdict

__all__ = ["next_sentence", "repeat_lines", "see_sentence", "what_to_do"]

_MOST_TOLD = 8
_SHOWN = {"chain": "its ladder, each link with its own gain", "bisect": "what the search found"}
_WRONG = {"other-answer": "it gives another answer", "other-work": "it does other work"}


def see_sentence(decision: Decision) -> str:
    """Return how a trial is seen over time, its command on a line of its own, or ""."""
    if not decision.to_see:
        return ""
    telling = {row.workload for row in decision.primary if row.has("part-and-whole") or row.has("stands-out")}
    one = next((one for one in decision.to_see if one.workload in telling), decision.to_see[0])
    words = ("records", "show", decision.head.name, "--trial", one.middle, "--to", "trial.html")
    return f"One trial over time:\n  {command_line(*words, given=decision.given)}"


def next_sentence(decision: Decision) -> str:
    """Return what one would do next; a command stands on a line of its own."""
    rows, head = decision.primary, decision.head
    if not rows:
        return _comparing(decision)
    if head.resumable:
        resume = command_line("observe", "--resume", head.name, given=replace(decision.given, study="", only=()))
        return f"Next: finish this record:\n  {resume}"
    if what := _SHOWN.get(head.shown_by):
        return f"Next: {what}:\n  {command_line(head.shown_by, head.name, given=replace(decision.given, only=()))}"
    page = command_line("report", head.name, "--to", "review.html", given=decision.given)
    failed = [row for row in rows if row.verdict == Verdict.FAILED]
    if failed and (again := check_again(head, decision.given, failed[0].workload)):
        return f"Next: try {failed[0].workload} once, and see how it fails:\n  {again}"
    worse = [row for row in rows if Verdict(row.verdict).is_worse]
    if worse:
        unseen = [row for row in worse if row.key not in decision.accounts]
        if unseen and (look := inspect_again(head, decision.given, unseen[0].workload)):
            where = f"Next: see where {unseen[0].workload} changed, by watching both arms:\n  {look}"
            return f"{where}\nThe page for a reviewer:\n  {page}"
        if not unseen:
            given = replace(decision.given, only=())
            leads = command_line("leads", head.name, "--only", worse[0].workload, given=given)
            return f"Next: see all leads of {worse[0].workload}:\n  {leads}\nThe page for a reviewer:\n  {page}"
        return f"Next: look at what changed for {worse[0].workload}; the page for a reviewer:\n  {page}"
    unclear = [row for row in rows if row.verdict == Verdict.UNCLEAR]
    if unclear and (step := _settling(decision, unclear)):
        return step
    return f"Next: the page for a reviewer:\n  {page}"


def _comparing(decision: Decision) -> str:
    """Return how one arm alone comes to a comparison."""
    head, given = decision.head, decision.given
    if not any(arm.in_place for arm in head.study.arms) or not observe_again(head, given):
        return "Next: give the study a second arm, which is then compared with the first."
    bare = replace(given, study="", only=())
    again = f"Next: edit, and compare with what ran now:\n  {command_line('observe', '--again', head.name, given=bare)}"
    if not (said := unbraced(head.study.workloads[0].template)):
        return again
    words = (*printed_options(head.study), "--arm", f"before={said}", "--arm", f"after={said}")
    both = command_line("observe", *words, given=bare)
    return f"{again}\nOr write another command in the place of the second, and compare the two:\n  {both}"


def _settling(decision: Decision, unclear: Sequence[Row]) -> str:
    """Return what may settle the first unclear row that more blocks can settle, "" where nothing can be run."""
    near = [row for row in unclear if row.blocks_for_this]
    known = [row for row in unclear if not math.isnan(row.blocks_for_margin)]
    row = (near or known or unclear)[0]
    blocks = f"{row.blocks_for_this or (row.blocks_for_margin if known else 2 * max(20, row.blocks)):.0f}"
    several = len({one.workload for one in decision.primary}) > 1
    words = ("--only", row.workload) if several else tuple(only_options(decision.head.study.chosen))
    again = observe_again(decision.head, replace(decision.given, only=()), *words, "--blocks", blocks)
    if not again:
        return f"Next: {blocks} blocks in a new record may settle {row.workload}."
    return f"Next: a new record may settle {row.workload}:\n  {again}"


def what_to_do(decision: Decision, gate: GateFinding) -> list[str]:
    """Return each row that stops a gate, in a sentence, with the command that goes on; on lines of their own."""
    rows: dict[int, Row | CeilingRow] = {id(row): row for _, row in gate.stopping}
    texts = []
    for row in list(rows.values())[:_MOST_TOLD]:
        words = ", ".join(gate.words_of(row))
        if isinstance(row, CeilingRow):
            asked = f"{row.workload} under {row.arm}, {ceiling_text(row, decision.measure.name)}"
            texts.append(f"{asked} ({words}): beyond it {beyond_text(row)}")
            continue
        name = decision.name_of(row) if row.primary else f"{decision.name_of(row)}, {row.measure.label}"
        wrong = [what for word, what in _WRONG.items() if word in gate.words_of(row)]
        text = f"{name} ({words}): {'; '.join([*wrong, row_sentence(row)])}"
        steps = _steps(decision, row, set(gate.words_of(row)))
        texts.append("\n  ".join([text, *steps]))
    if (rest := len(rows) - _MOST_TOLD) > 0:
        texts.append(f"and {rest} more")
    return texts


def _steps(decision: Decision, row: Row, words: set[str]) -> list[str]:
    """Return the commands that look into a row, or settle it."""
    head, given = decision.head, decision.given
    if words & {"failed", "other-answer", "other-work"}:
        again = check_again(head, given, row.workload)
        return [again] if again else []
    steps = [inspect_again(head, given, row.workload)] if Verdict(row.verdict).is_worse and row.primary else []
    which = [] if row.primary else ["--measure", row.measure.name]
    which += ["--arm", row.arm] if decision.several else []
    bare = replace(given, study="", only=())
    steps.append(command_line("settle", row.workload, "accepted", *which, "--because", "...", given=bare))
    return [step for step in steps if step]


def repeat_lines(decision: Decision) -> list[str]:
    """Return the commands that repeat the observation, where it can be, and the decision."""
    head, study = decision.head, decision.head.study
    lines = [command_line("decide", head.name, given=decision.given)]
    how = {"fixed": ["--fixed", str(study.blocks)], "strict": ["--blocks", str(study.blocks), "--strict"]}
    blocks = how.get(study.stopping, ["--blocks", str(study.blocks)])
    if len(set(study.planned_blocks)) > 1:  # each its own, which one number would undo
        blocks = []
    placebo = ["--placebo"] if study.control else []
    margin = ["--margin", f"{100 * study.margin:g} %"]
    words = ["--seed", str(study.seed), *blocks, *margin, *placebo, *only_options(study.chosen)]
    if again := observe_again(head, replace(decision.given, only=()), *words):
        lines.insert(0, again)
    return lines
