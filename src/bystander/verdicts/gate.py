"""The gate for pipelines: no false alarm in the whole suite, rather than few among those shown."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bystander.errors import UsageError
from bystander.stats import holm
from bystander.verdicts.types import Decision, Row

__all__ = ["GATE_WORDS", "GateFinding", "gate", "gate_words"]

GATE_WORDS = (
    "slower", "faster", "more", "less", "lower", "higher", "failed", "unclear", "other-answer", "other-work",
)  # fmt: skip


@dataclass(frozen=True)
class GateFinding:
    """Rows that the gate was told to look for, and rows that it left out as not randomised."""

    found: tuple[Row, ...]
    left_out: tuple[Row, ...]


def gate_words(text: str) -> tuple[str, ...]:
    """Read a list such as "slower,failed"; raise UsageError on any other word."""
    words = tuple(word.strip() for word in text.split(",") if word.strip())
    for word in words or ("",):
        if word not in GATE_WORDS:
            raise UsageError(f'--gate: "{word}" is nothing to look for; choose among {", ".join(GATE_WORDS)}')
    return words


def gate(decision: Decision, words: Sequence[str], unrandomised: bool = False) -> GateFinding:
    """Return the primary rows that hold what is looked for.

    Changes count when Holm's adjustment (1979) over all comparisons of the
    stored plan shows the change at the study's risk, and the interval does not lie within the margin.
    Failed, unclear, other answers and other work count as the table shows them.

    Parameters
    ----------
    unrandomised : bool
        Count also rows whose trials were not run in random order.
    """
    rows = list(decision.primary)
    left_out = [] if unrandomised else [row for row in rows if row.has("unrandomised")]
    rows = [row for row in rows if row not in left_out]
    p = np.array([1.0 if np.isnan(row.p) else row.p for row in rows])
    adjusted = holm(p, max(decision.comparisons, len(rows))).tolist()
    found = [row for row, q in zip(rows, adjusted, strict=True) if _looked_for(row, words, q <= decision.risk)]
    return GateFinding(tuple(found), tuple(left_out))


def _looked_for(row: Row, words: Sequence[str], certain: bool) -> bool:
    if "other-answer" in words and row.has("answer-differs"):
        return True
    if "other-work" in words and row.has("work-differs"):
        return True
    if row.verdict in ("failed", "unclear"):
        return row.verdict in words
    return row.verdict in words and certain and row.relevance != "within"
