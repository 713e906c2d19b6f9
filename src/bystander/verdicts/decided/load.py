"""The effect on the whole load: what counts, and what had to be left out."""

from __future__ import annotations

import math
from dataclasses import dataclass

from bystander.design import Comparison
from bystander.units import listed
from bystander.verdicts.types import Decision, Row
from bystander.verdicts.words import Verdict

__all__ = ["Load", "loads", "weighted_sentence"]

_NAMED = 4


@dataclass(frozen=True)
class Load:
    """The load under the candidate of one comparison: the sum of median times weight over workloads.

    Attributes
    ----------
    ratio : float
        Candidate over reference; NaN where no workload counts. It is a plain ratio of sums, without a test.
    counted : tuple of str
        The workloads in it.
    other_answer, failed, not_known : tuple of str
        Those with a weight that are left out: they give another answer that nobody accepted, they fail, or they
        have no median yet.
    without_weight : tuple of str
        Those that the study gives no weight.
    """

    arm: str
    against: str
    ratio: float
    counted: tuple[str, ...]
    other_answer: tuple[str, ...]
    failed: tuple[str, ...]
    not_known: tuple[str, ...]
    without_weight: tuple[str, ...]


def loads(decision: Decision) -> tuple[Load, ...]:
    """Return the load under each candidate that is shown; empty where the study gives no weights."""
    found = (_load(decision, comparison) for comparison in decision.head.study.comparisons)
    return tuple(load for load in found if load is not None)


def _load(decision: Decision, comparison: Comparison) -> Load | None:
    rows = [row for row in decision.primary if row.comparison == comparison]
    weighted = [row for row in rows if row.weight]
    if not weighted:
        return None
    wrong = [row for row in weighted if row.has("answer-differs")]
    failed = [row for row in weighted if row.verdict == Verdict.FAILED and row not in wrong]
    rest = [row for row in weighted if row not in wrong and row not in failed]
    unknown = [row for row in rest if not math.isfinite(row.reference.median + row.candidate.median)]
    counted = [row for row in rest if row not in unknown]
    before = sum(row.reference.median * (row.weight or 0) for row in counted)
    after = sum(row.candidate.median * (row.weight or 0) for row in counted)
    ratio = after / before if before > 0 else math.nan
    bare = [row for row in rows if row.weight is None]
    reference, arm = decision.head.study.names(comparison)
    return Load(arm, reference, ratio, *map(_names, (counted, wrong, failed, unknown, bare)))


def _names(rows: list[Row]) -> tuple[str, ...]:
    return tuple(row.workload for row in rows)


def weighted_sentence(decision: Decision) -> str:
    """Return the effect on the whole load with what it leaves out, or "" where nothing can be said."""
    found = [load for load in loads(decision) if math.isfinite(load.ratio)]
    if not found:
        return ""
    times = "; ".join(f"{load.arm} takes {load.ratio:.2f} times what {load.against} takes" for load in found)
    text = f"Weighted by how often each runs, by medians and without a test: {times}."
    for load in found:
        if left := _left_out(load):
            whose = f" of {load.arm}" if len(found) > 1 else ""
            text += f" Left out{whose}: {left}."
    if found[0].without_weight:
        text += f" Without a weight: {listed(found[0].without_weight, _NAMED)}."
    return text


def _left_out(load: Load) -> str:
    parts = (
        (load.other_answer, "another answer"), (load.failed, "failed"), (load.not_known, "no median yet"),
    )  # fmt: skip
    return "; ".join(f"{listed(names, _NAMED)} ({why})" for names, why in parts if names)
