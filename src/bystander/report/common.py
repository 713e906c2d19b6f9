"""What every report says, whatever its format."""

from __future__ import annotations

from datetime import UTC, datetime

from bystander.units import share_text
from bystander.verdicts import Decision, Row, Shift

__all__ = ["changed_secondary", "distribution_rows", "methods", "repeat_lines", "started_text", "told_notes"]

_SILENT = ("beyond-margin",)  # the words of the row say it


def started_text(decision: Decision) -> str:
    """Return when the record was begun, in UTC."""
    return datetime.fromtimestamp(decision.head.started_wall_s, UTC).strftime("%Y-%m-%d %H:%M UTC")


def changed_secondary(decision: Decision) -> list[Row]:
    """Return rows of other measures that changed and whose size is not within the margin."""
    return [row for row in decision.secondary if row.verdict in row.measure.words and row.relevance != "within"]


def told_notes(row: Row) -> list[str]:
    """Return the sentences of a row's notes."""
    return [note.text for note in row.notes if note.code not in _SILENT]


def methods(decision: Decision) -> list[str]:
    """Return how the verdicts were reached, one sentence each."""
    head, study = decision.head, decision.head.study
    if head.origin == "observed":
        first = (
            f"Each workload ran in {study.blocks} blocks; in a block every arm ran once, back to back, in an order "
            f"drawn by seed {study.seed}."
        )
    else:
        first = "The readings were imported; Bystander did not run the trials."
    return [
        first,
        *([study.conditions_text] if study.conditions_text else []),
        "The estimate is the pseudo-median of the log ratios within blocks (Hodges and Lehmann 1963), the test the "
        "exact signed-rank test (Wilcoxon 1945); without blocks, the rank-sum test on all pairs of trials.",
        f"Margin {share_text(decision.margin)}, risk {share_text(decision.risk)}: among rows shown as changed, at most "
        f"{share_text(decision.risk)} are false in the long run (Benjamini and Hochberg 1995, over "
        f"{decision.comparisons} comparisons). Same means shown to lie within the margin (Schuirmann 1987).",
        "Failed trials stay in as bounds. Each interval states its level, which allows for the number of rows shown.",
    ]


def repeat_lines(decision: Decision) -> list[str]:
    """Return the commands that repeat the observation and the decision."""
    head = decision.head
    lines = [f"bystander decide {head.name}"]
    if head.origin == "observed" and not any(arm.in_place for arm in head.study.arms):
        placebo = "" if head.study.placebo is None else " --placebo"
        lines.insert(0, f"bystander observe --seed {head.study.seed}{placebo}")
    return lines


def distribution_rows(decision: Decision) -> list[tuple[str, list[str]]]:
    """Return, for each row of the study's measure, how each part of its distribution moved, in short."""
    several = len(decision.candidates) > 1
    by_place = {(one.workload, one.arm): one for one in decision.distributions}
    found = []
    for row in decision.primary:
        if one := by_place.get((row.workload, row.arm)):
            name = f"{row.workload} · {row.arm}" if several else row.workload
            found.append((name, [_shift_text(shift) for shift in one.shifts]))
    return found


def _shift_text(shift: Shift) -> str:
    if shift.needed:
        return f"{shift.needed} trials needed"
    return f"{_ratio_text(shift.ratio)} ({_ratio_text(shift.low)} to {_ratio_text(shift.high)})"


def _ratio_text(ratio: float) -> str:
    return f"{ratio:.2f}" if ratio < 10 else f"{ratio:.0f}"
