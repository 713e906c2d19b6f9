"""A decision as CSV: a line for each row and each ceiling, numbers as Python writes them in full."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

from bystander.exchange.written.csv_text import csv_text
from bystander.verdicts import ArmSide, CeilingRow, Decision, GateFinding, Row, Scale

__all__ = ["ROWS_HEAD", "rows_csv"]

ROWS_HEAD = (
    "record", "study", "workload", "arm", "against", "measure", "unit", "primary", "verdict", "relevance", "scale",
    "change", "low", "high", "confidence", "p", "p_adjusted", "margin", "blocks", "weight", "contribution",
    "reference_trials", "reference_failed", "reference_least", "reference_median", "reference_greatest",
    "candidate_trials", "candidate_failed", "candidate_least", "candidate_median", "candidate_greatest",
    "accepted", "gate", "notes",
)  # fmt: skip


def rows_csv(decision: Decision, gate: GateFinding | None = None) -> str:
    """Return one line a row: ratios or differences, by `scale`, in SI units; empty where nothing is known.

    A ceiling is a line with `scale` "ceiling": its limit is `change`, trials beyond it stand in `candidate_failed`.
    """
    return csv_text([ROWS_HEAD, *_lines(decision, gate)])


def _lines(decision: Decision, gate: GateFinding | None) -> Iterator[Sequence[object]]:
    head = decision.head

    def words(row: Row | CeilingRow) -> str:
        return " ".join(gate.words_of(row)) if gate else ""

    shares = {
        (load.arm, load.against, part.workload): part.contribution for load in decision.loads for part in load.parts
    }
    for row in decision.rows:
        sides = [*_side(row.reference), *_side(row.candidate)]
        share = shares.get((row.arm, row.against, row.workload)) if row.primary else None
        yield (
            head.name, head.study.name, row.workload, row.arm, row.against, row.measure.name, row.measure.unit,
            int(row.primary), row.verdict, row.relevance, row.scale, _cell(row.estimate),
            _cell(row.low if row.scale != Scale.RATIO or row.low > 0 else math.nan), _cell(row.high), row.confidence,
            _cell(row.p), _cell(row.p_adjusted), row.margin, row.blocks, "" if row.weight is None else row.weight,
            "" if share is None else share, *sides, int(row.accepted), words(row),
            " ".join(note.code for note in row.notes),
        )  # fmt: skip
    for one in decision.ceilings:
        yield _ceiling(decision, one, words(one))


def _ceiling(decision: Decision, row: CeilingRow, found: str) -> Sequence[object]:
    head, nothing = decision.head, [""] * 5
    return (
        head.name, head.study.name, row.workload, row.arm, "", row.measure.name, row.measure.unit, 0, row.verdict, "",
        "ceiling", row.ceiling.limit, "", "", row.ceiling.share, min(row.p_holds, row.p_broken), row.p_adjusted, "", "",
        "", "", *nothing, row.trials, row.beyond, "", "", "", 0, found,
        "in-these-minutes" if row.doubtful else "",
    )  # fmt: skip


def _side(side: ArmSide) -> list[object]:
    return [side.trials, side.failed, _cell(side.least), _cell(side.median), _cell(side.greatest)]


def _cell(value: float) -> object:
    return value if math.isfinite(value) else ""
