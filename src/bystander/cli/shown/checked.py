"""What a check found, for the terminal."""

from __future__ import annotations

import math
from typing import TypeAlias

from rich.console import Console
from rich.table import Table
from rich.text import Text

from bystander.cli.shown.console import tell
from bystander.design import Given, Study, command_line, machine_sentences, machine_title
from bystander.foresight import AnswerDifference, Checked, difference_sentence
from bystander.units import counted, duration_text, numbered, share_text

__all__ = ["show"]

Column: TypeAlias = tuple[str, list[Text]]
_MOST_COMMANDS = 20
_MOST_ROWS = 30


def show(console: Console, checked: Checked, given: Given | None = None) -> None:
    """Print what a check found, for people; `given` is what its commands must repeat."""
    study = checked.study
    console.print(study.name, style="title")
    console.print()
    for arm in checked.arms:
        role = "reference" if arm.name == study.reference.name else "candidate"
        console.print(f"arm {arm.name} ({role}): {arm.identity}")
        if subject := arm.facts.subject:
            console.print(f"    {subject}", style="quiet")
        if (interpreter := arm.facts.interpreter).path:
            console.print(f"    {interpreter.version} at {interpreter.program}", style="quiet", soft_wrap=True)
    console.print()
    _print_trials(console, checked)
    for difference in checked.differences:
        _print_difference(console, checked.study, difference)
    for one in checked.failures:
        name = f"{study.workloads[one.workload].name} under arm {study.arms[one.arm].name}"
        console.print(f"{name} failed ({one.outcome.how}):")
        console.print(
            "\n".join(f"    {line}" for line in one.outcome.excerpt.splitlines()[-5:]) or "    it said nothing"
        )
    console.print(f"Machine: {machine_title(checked.machine)}")
    console.print(" ".join(machine_sentences(checked.machine)))
    for remark in checked.remarks:
        console.print(f"Note: {remark}")
    parts = [counted(len(study.workloads), "workload"), counted(len(study.arms), "arm")]
    parts.append(study.counted_blocks)
    trials = f"{study.total_blocks * len(study.arms)} trials ({', '.join(parts)})"
    if checked.expected_s is None:
        console.print(f"Nothing was run. The observation has {trials}.")
        console.print("Without --plan-only, check says how long it takes.")
    else:
        takes, most = ("at most", "up to ") if study.stops_early else ("about", "")
        console.print(f"The observation will take {takes} {duration_text(checked.expected_s, 2)}: {most}{trials}.")
    what, word = ("mend what fails, then check again", "check") if checked.failures else ("observe it", "observe")
    tell(console, f"Next: {what}:\n  {command_line(word, given=given or Given())}")


def _print_outlook(console: Console, checked: Checked) -> None:
    """Say what the last column of the table means."""
    if checked.outlooks:
        study = checked.study
        source = f"{checked.placebo_blocks} blocks in which {study.reference.name} just ran against itself"
        if checked.noise_of:
            source = f"the noise of record {checked.noise_of}, without what changed in it"
        console.print(
            f"Could show: the smallest change that {study.blocks_text} blocks would show in 8 of 10 such studies. "
            f"For {share_text(checked.change)}: the most blocks, and their time, of studies that would show that. "
            f"Simulated from {source}."
        )
        console.print()


def _print_trials(console: Console, checked: Checked) -> None:
    shown, rest = _workloads_to_show(checked)
    names = [checked.study.workloads[w].name for w in shown]
    by_arm, answers, outlook = _once(checked, shown), _answers(checked, shown), _outlook(checked, shown)
    once = [(f"{arm}, once", cells) for arm, cells in by_arm]
    together = [*once, *answers, *outlook]
    if not _fits(console, names, [*once, *answers]):  # many arms: their times in one column that may be wrapped
        texts = [", ".join(f"{arm} {cells[k].plain}" for arm, cells in by_arm) for k in range(len(names))]
        once = [("once", [Text(text) for text in texts])]
    for columns in [together] if _fits(console, names, together) else [[*once, *answers], outlook]:
        _print_table(console, names, columns)
    if rest:
        console.print(f"and {rest} more that went well: --json names them", style="quiet")
    _print_outlook(console, checked)
    _print_commands(console, checked, shown)


def _print_table(console: Console, names: list[str], columns: list[Column]) -> None:
    if not columns:
        return
    table = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="quiet")
    table.add_column("workload", width=_width(names), no_wrap=True)
    for head, _ in columns:
        table.add_column(head, no_wrap=head != "once")
    forms = numbered(names, _width(names))
    for k, name in enumerate(names):
        table.add_row(forms[name], *(cells[k] for _, cells in columns))
    console.print(table)
    console.print()


def _width(names: list[str]) -> int:
    return min(max(map(len, ["workload", *names])), 36)


def _fits(console: Console, names: list[str], columns: list[Column]) -> bool:
    """Whether the columns stand beside each other without being cut."""
    return _width(names) + sum(2 + max(len(head), *map(len, cells)) for head, cells in columns) <= console.width


def _workloads_to_show(checked: Checked) -> tuple[list[int], int]:
    """Return the workloads worth a line, those with a failure or another answer first, and how many others."""
    bad = {one.workload for one in checked.failures} | {one.workload for one in checked.differences}
    order = sorted(range(len(checked.study.workloads)), key=lambda w: w not in bad)
    shown = sorted(order[:_MOST_ROWS])
    return shown, len(order) - len(shown)


def _once(checked: Checked, shown: list[int]) -> list[Column]:
    """Return for each arm, by its name, how long its one trial of each workload took."""
    found = {(one.workload, one.arm): one.outcome for one in checked.tried}

    def cell(w: int, a: int) -> Text:
        outcome = found.get((w, a))
        if outcome is None:
            return Text("not run")
        return Text(duration_text(outcome.readings["elapsed"]) if outcome.status == 0 else "failed")

    arms = enumerate(checked.study.arms) if checked.tried else ()
    return [(arm.name, [cell(w, a) for w in shown]) for a, arm in arms]


def _answers(checked: Checked, shown: list[int]) -> list[Column]:
    """Return the column of answers, none where there is one arm or nothing was run."""
    study = checked.study
    failed = {one.workload for one in checked.failures}

    def cell(w: int) -> Text:
        if w in failed:
            return Text("unknown")
        if any(one.varies for one in checked.differences if one.workload == w):
            return Text("vary")
        if differing := [one.comparison.candidate for one in checked.differences if one.workload == w]:
            accepted = all(study.accepted(w, arm) for arm in differing)
            return Text("accepted") if accepted else Text("DIFFERS", style="slower")
        return Text("not asked for" if study.workloads[w].answer is None else "the same")

    return [("answers", [cell(w) for w in shown])] if len(study.arms) > 1 and checked.tried else []


def _outlook(checked: Checked, shown: list[int]) -> list[Column]:
    """Return the columns of what could be shown, and what the change asked about takes; none where it is not known."""
    found = {one.workload: one for one in checked.outlooks}

    def cells(w: int) -> tuple[Text, Text]:
        if w not in found:
            return Text("unknown"), Text("unknown")
        blocks, seconds = found[w].blocks_for_change, found[w].seconds_for_change
        took = f" ({duration_text(seconds, 2)})" if math.isfinite(seconds) else ""
        smallest = share_text(found[w].smallest) if math.isfinite(found[w].smallest) else "nothing"
        return Text(smallest), Text(f"{blocks:.0f}{took}" if math.isfinite(blocks) else "unknown")

    heads = ("could show", f"for {share_text(checked.change)}")
    return [(head, [cells(w)[k] for w in shown]) for k, head in enumerate(heads)] if found else []


def _print_commands(console: Console, checked: Checked, shown: list[int]) -> None:
    """Print what is run, the program as it was found; once where all arms run the same words."""
    study = checked.study
    console.print("What is run:", style="quiet")
    for w in shown[:_MOST_COMMANDS]:
        by_words: dict[str, list[str]] = {}
        for one in checked.commands:
            if one.workload == w:
                by_words.setdefault(one.text, []).append(study.arms[one.arm].name)
        for words, arms in by_words.items():
            name = study.workloads[w].name
            who = name if len(by_words) == 1 else f"{name}, arm {', '.join(arms)}"
            console.print(f"  {who}: {words}", style="quiet", soft_wrap=True)
    if (rest := len(study.workloads) - _MOST_COMMANDS) > 0:
        console.print(f"  and {rest} more: --json names them", style="quiet")
    console.print()


def _print_difference(console: Console, study: Study, difference: AnswerDifference) -> None:
    if difference.varies:
        console.print(difference_sentence(study, difference))
        console.print()
        return
    reference, arm = study.names(difference.comparison)
    console.print(f"{study.workloads[difference.workload].name}: {arm} gives another answer than {reference},")
    if reason := study.accepted(difference.workload, difference.comparison.candidate):
        console.print(f"    accepted: {reason}")
    for line in difference.lines:
        console.print(f"    {line}", no_wrap=True, overflow="ellipsis", style="quiet")
    console.print()
