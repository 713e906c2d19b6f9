"""What every report says, whatever its format."""

from __future__ import annotations

from bystander.design import Origin
from bystander.report.theme import MARKS
from bystander.units import counted, share_text
from bystander.verdicts import (
    Decision,
    StopReason,
    Whole,
    beyond_text,
    ceiling_notes,
    ceiling_text,
    ceilings_sentence,
    contribution_text,
    outcome_sentence,
    settled_sentence,
)

__all__ = [
    "CEILING_HEADS",
    "LOAD_HEADS",
    "QUOTED",
    "QUOTED_HEADS",
    "ceiling_table",
    "load_caption",
    "load_table",
    "looks_table",
    "methods",
    "outcome",
]


def methods(decision: Decision) -> list[str]:
    """Return how the verdicts were reached, one sentence each."""
    head, study = decision.head, decision.head.study
    if head.origin == Origin.OBSERVED:
        most = "at most " if len(decision.looks.blocks) > 1 else ""
        first = (
            f"Each workload ran in {most}{study.counted_blocks}; in a block every arm ran once, back to "
            f"back, in an order drawn by seed {study.seed}."
        )
    else:
        first = "The readings were imported; Bystander did not run the trials."
    return [
        first,
        *([study.conditions_text] if study.conditions_text else []),
        "The estimate is the pseudo-median of the log ratios within blocks (Hodges and Lehmann 1963), the test the "
        "exact signed-rank test (Wilcoxon 1945); without blocks, the rank-sum test on all pairs of trials.",
        f"Margin {share_text(decision.margin)}, risk {share_text(decision.risk)}: if nothing had changed, something "
        f"would be shown in at most {share_text(decision.risk)} of such records (Benjamini and Hochberg 1995, over "
        f"{counted(decision.comparisons, 'comparison')}). Same means shown to lie within the margin (Schuirmann 1987).",
        *([_stopping_rule(decision)] if len(decision.looks.blocks) > 1 else []),
        *([_OF_CEILINGS] if decision.ceilings else []),
        *([_OF_WHOLES] if decision.loads or decision.means else []),
        *([settled] if (settled := settled_sentence(decision)) else []),
        "Failed trials stay in as bounds. Each interval states its level, which allows for the number of rows shown.",
    ]


_OF_CEILINGS = (
    "A ceiling holds, or is broken, where so few, or so many, trials beyond it would be luck by the exact binomial "
    "test, one-sided at each look, Holm over all ceilings (1979). That is exact of independent trials only: whether "
    "they depend on each other is tested by their ranks (Wald and Wolfowitz 1943)."
)
_OF_WHOLES = (
    "What is said of all workloads together weighs typical changes (for the load by weight and time of the reference, "
    "for the geometric mean alike), freed of what stopping at looks does to them (Whitehead 1986). Intervals are "
    "squared and added (Newcombe 1998; Zou and Donner 2008); that of plain sums is by the delta method. Weights and "
    "shares count as known."
)


def _stopping_rule(decision: Decision) -> str:
    source = "adding up to the risk (Bonferroni)"
    if not decision.looks.strict:
        source = "which together spend the risk (Lan and DeMets 1983)"
    where = "looks planned from a fifth to all of its blocks" if decision.looks_differ else "the looks below"
    return (
        f"A row could stop at {where}, fixed before the start, at nominal levels {source}; p, e and intervals "
        "are those over all looks. Between looks nobody was shown a result."
    )


def looks_table(decision: Decision) -> list[tuple[str, ...]]:
    """Return heads and rows of the looks: blocks, nominal level, and what came of them; empty where there was one."""
    looks = decision.looks
    if len(looks.blocks) == 1 or not decision.primary or decision.looks_differ:
        return []
    reasons = (StopReason.CHANGED, StopReason.SAME, StopReason.FAILS_MORE)
    table: list[tuple[str, ...]] = [("after blocks", "nominal level", "changed", "same", "failed", "went on")]
    waiting = len(decision.primary)
    levels = decision.look_levels
    for place, (blocks, level) in enumerate(zip(looks.blocks, levels, strict=True)):
        taken = waiting > 0
        stops = [row.stop for row in decision.primary if row.stop.look == place]
        there = [stop for stop in stops if stop.reason != StopReason.UNFINISHED]
        waiting -= sum(stop.reason in reasons for stop in there)
        counts = [sum(stop.reason == reason for stop in there) for reason in reasons]
        cells = [*map(str, counts), str(waiting)] if taken else ["-"] * 4
        table.append((str(blocks), f"{100 * level:.2f} %", *cells))
    return table


def outcome(decision: Decision) -> str:
    """Return the outcome: of all rows, and of all ceilings."""
    return " ".join(filter(None, (outcome_sentence(decision), ceilings_sentence(decision))))


QUOTED = "Least, middle and greatest, before and after: what people quote; nothing is tested on them"
QUOTED_HEADS = ("least", "middle", "greatest")
CEILING_HEADS = ("ceiling", "arm", "verdict", "beyond", "p", "")


def ceiling_table(decision: Decision) -> list[tuple[str, ...]]:
    """Return a line for each ceiling under each arm; the last cell says what speaks against it."""
    return [
        (
            f"{row.workload}, {ceiling_text(row, decision.measure.name)}", row.arm,
            f"{MARKS[row.verdict]} {row.verdict}", beyond_text(row), f"{row.p_adjusted:.2g}" if row.looked_at else "",
            ", ".join(ceiling_notes(row)),
        )
        for row in decision.ceilings
    ]  # fmt: skip


LOAD_HEADS = ("workload", "share of the load", "change (interval)", "moves the whole by", "share of its doubt")
_PARTS_SHOWN = 12


def load_table(load: Whole) -> list[tuple[str, ...]]:
    """Return the workloads of a load, those first that move it by most; empty where there is no total."""
    order = sorted(load.parts, key=lambda part: -abs(part.contribution))
    rows: list[tuple[str, ...]] = [
        (
            part.workload, share_text(part.share), f"{part.ratio:.3g} times ({part.low:.3g} to {part.high:.3g})",
            contribution_text(load, part.workload), _whole_percent(part.uncertainty),
        )
        for part in order[:_PARTS_SHOWN]
    ]  # fmt: skip
    if rest := order[_PARTS_SHOWN:]:
        rows.append((
            f"{len(rest)} more", share_text(sum(part.share for part in rest)), "",
            f"{100 * sum(part.contribution for part in rest):+.2g} %", _whole_percent(sum(p.uncertainty for p in rest)),
        ))  # fmt: skip
    return rows


def _whole_percent(share: float) -> str:
    return f"{100 * share:.0f} %" if share >= 0.005 else "under 1 %"


def load_caption(load: Whole) -> str:
    """Return what the table of a load says, and for how long it holds."""
    return (
        f"What the whole load of {load.arm} against {load.against} is made of. Shares are those of the times as they "
        "were measured; ratios are freed of what stopping at a look does to them, and their intervals are those that "
        "the total took."
    )
