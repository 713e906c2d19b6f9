"""Rows that are tested and adjusted together: one candidate's, for the study's measure or for all others."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record, Status
from bystander.stats import (
    benjamini_hochberg,
    examine,
    fails_more_p,
    fails_more_unpaired_p,
    holm,
    interval,
    rejections,
)
from bystander.verdicts import notes as say
from bystander.verdicts.pairs import Batch, Material, RowTrials, batches, material
from bystander.verdicts.rules import Case, outcome, placebo_outcome
from bystander.verdicts.soundness import soundness_notes
from bystander.verdicts.told import start_notes, told_notes
from bystander.verdicts.types import ArmSide, Note, Row

__all__ = ["Family", "family_rows"]

Floats = NDArray[np.float64]
_RELEVANCE_NOTES = {
    "beyond": say.beyond_margin,
    "within": say.within_margin,
    "undetermined": say.margin_undetermined,
}


@dataclass(frozen=True)
class Family:
    """Rows of one arm that are adjusted together.

    Attributes
    ----------
    alpha, size : float, int
        The risk, and over how many comparisons it is held.
    candidates : int
        How many arms share the study's risk.
    primary : bool
        Whether this is the study's measure.
    strict : float
        The level at which a change of one row alone would be shown.
    placebo : bool
        Whether the arm is the placebo, on which no row may look changed: Holm (1979) over the rows.
    """

    alpha: float
    size: int
    candidates: int
    primary: bool
    strict: float
    placebo: bool = False


@dataclass(frozen=True)
class _Tested:
    """The numbers of all rows of a family; arrays of one shape, NaN where nothing was tested."""

    estimate: Floats
    leans: NDArray[np.int64]
    p: Floats
    e: Floats
    q: Floats
    q_e: Floats
    fails_more: Floats
    accepted: int
    accepted_same: int


def family_rows(
    record: Record, pairs: Sequence[RowTrials], measures: Sequence[Measure], margin: float, family: Family
) -> list[Row]:
    """Return the rows of a family with their verdicts and intervals."""
    members = [(pair, measure) for measure in measures for pair in pairs]
    materials = [material(record, pair, measure, margin) for pair, measure in members]
    if not family.primary:  # what only some programs tell of themselves counts only where it is told
        there = [i for i, row in enumerate(materials) if row.testable]
        members, materials = [members[i] for i in there], [materials[i] for i in there]
        size = max(1, len(there))
        family = replace(family, size=size, strict=family.alpha / size)
    groups = list(batches(materials))
    found = _tested(record, members, materials, groups, family)
    drafts = [
        _judged(record, pair, measure, materials[i], found, i, family) for i, (pair, measure) in enumerate(members)
    ]
    if family.primary and not family.placebo:
        sound = soundness_notes(record, [pair for pair, _ in members], materials)
        drafts = [replace(row, notes=(*row.notes, *told)) for row, told in zip(drafts, sound, strict=True)]
    return _with_intervals(drafts, materials, groups, family)


def _tested(
    record: Record,
    members: Sequence[tuple[RowTrials, Measure]],
    materials: Sequence[Material],
    groups: Sequence[Batch],
    family: Family,
) -> _Tested:
    count = len(members)
    estimate, p, e = np.full(count, np.nan), np.full(count, np.nan), np.full(count, np.nan)
    leans = np.zeros(count, dtype=np.int64)
    limits = np.array([row.margin for row in materials])
    for group in groups:
        seen = examine(group.contrasts, limits[group.rows])
        estimate[group.rows], leans[group.rows] = seen.estimate, seen.leans
        p[group.rows], e[group.rows] = seen.p, seen.e
    tested_p, tested_e = np.nan_to_num(p, nan=1.0), np.nan_to_num(e, nan=1.0)
    # A row shown to be the same does not ask to be a change as well.
    changed_p = np.where(tested_e <= family.alpha, 1.0, tested_p)
    q = holm(tested_p, family.size) if family.placebo else benjamini_hochberg(changed_p, family.size)
    q_e = benjamini_hochberg(tested_e, family.size)
    fails = np.ones(count)
    if family.primary:
        fails = holm(np.array([_fails_more(record, pair) for pair, _ in members]), family.size)
    return _Tested(estimate, leans, p, e, q, q_e, fails, rejections(q, family.alpha), rejections(q_e, family.alpha))


def _fails_more(record: Record, pair: RowTrials) -> float:
    """Return the raw p that the candidate fails more often."""
    reference = record.trials.status[pair.reference] != Status.OK
    candidate = record.trials.status[pair.candidate] != Status.OK
    if pair.paired:
        only_candidate = int(np.count_nonzero(candidate & ~reference))
        return fails_more_p(only_candidate, int(np.count_nonzero(reference & ~candidate)))
    return fails_more_unpaired_p(int(candidate.sum()), candidate.size, int(reference.sum()), reference.size)


def _judged(
    record: Record, pair: RowTrials, measure: Measure, stuff: Material, tested: _Tested, i: int, family: Family
) -> Row:
    """Return a row with its verdict; its interval is filled in later, for all rows at once.

    Until then `confidence` says at which level it will be, and `low` and `high` are unbounded.
    """
    study = record.head.study
    sides = [_side(record, pair.reference, stuff.medians[0]), _side(record, pair.candidate, stuff.medians[1])]
    silent = [study.arms[a].name for a, side in zip((0, pair.arm), sides, strict=True) if not side.trials]
    p, e, q, q_e = (float(column[i]) for column in (tested.p, tested.e, tested.q, tested.q_e))
    judge = placebo_outcome if family.placebo else outcome
    found = judge(
        Case(
            reference=sides[0],
            candidate=sides[1],
            silent_arm=silent[0] if silent else None,
            read=stuff.testable,
            fails_more=float(tested.fails_more[i]),
            p=p,
            q=q,
            e=e,
            q_e=q_e,
            leans=int(tested.leans[i]),
            blocks=stuff.size if stuff.paired else None,
            alpha=family.alpha,
            size=family.size,
            accepted=tested.accepted,
            accepted_same=tested.accepted_same,
            words=measure.words,
        )
    )
    remarks = _remarks(record, pair, measure, stuff, sides)
    if family.primary and not family.placebo:
        remarks += [*told_notes(record, pair), *start_notes(record, pair)]
    return Row(
        workload=study.workloads[pair.workload].name,
        arm=study.arms[pair.arm].name,
        measure=measure,
        primary=family.primary,
        pairing="blocks" if pair.paired else "none",
        blocks=stuff.size,
        reference=sides[0],
        candidate=sides[1],
        scale=stuff.scale,
        estimate=float(tested.estimate[i]),
        low=-math.inf,
        high=math.inf,
        confidence=1 - found.error,
        margin=stuff.margin,
        p=p,
        p_adjusted=p if math.isnan(p) else min(1.0, q * family.candidates),
        e=e,
        e_adjusted=e if math.isnan(e) else min(1.0, q_e * family.candidates),
        smallest_shown=math.nan,
        verdict=found.verdict,
        relevance="undetermined",
        weight=study.workloads[pair.workload].weight,
        notes=tuple([*remarks, found.note] if found.note else remarks),
    )


def _side(record: Record, rows: NDArray[np.int64], median: float) -> ArmSide:
    failed = int(np.count_nonzero(record.trials.status[rows] != Status.OK))
    return ArmSide(int(rows.size), failed, median)


def _remarks(
    record: Record, pair: RowTrials, measure: Measure, stuff: Material, sides: Sequence[ArmSide]
) -> list[Note]:
    """Return what is to be said of a row whatever its verdict."""
    found: list[Note | None] = [
        say.answers(record, pair) if record.head.study.workloads[pair.workload].answer else None,
        say.failures_kept(sides) if any(0 < side.failed < side.trials for side in sides) else None,
        say.unrandomised(record, pair),
        say.left_out(pair.alone) if pair.alone else None,
        say.unread(stuff.unread, measure) if stuff.unread else None,
        say.at_floor(stuff.at_floor) if stuff.at_floor else None,
    ]
    return [note for note in found if note is not None]


def _with_intervals(
    drafts: Sequence[Row],
    materials: Sequence[Material],
    groups: Sequence[Batch],
    family: Family,
) -> list[Row]:
    """Fill in interval, relevance and the notes that depend on them."""
    count = len(materials)
    low, high = np.full(count, -np.inf), np.full(count, np.inf)
    error = np.array([1 - draft.confidence for draft in drafts])
    shown_low, shown_high = low.copy(), high.copy()
    strict = np.full(count, family.strict)
    for group in groups:
        low[group.rows], high[group.rows] = interval(group.contrasts, error[group.rows])
        ends = interval(group.contrasts, strict[group.rows])
        shown_low[group.rows], shown_high[group.rows] = ends
    return [
        _finished(draft, materials[i], (float(low[i]), float(high[i])), (float(shown_low[i]), float(shown_high[i])))
        for i, draft in enumerate(drafts)
    ]


def _finished(row: Row, stuff: Material, ends: tuple[float, float], strict: tuple[float, float]) -> Row:
    low, high = ends
    margin = stuff.margin
    if low > margin or high < -margin:
        relevance = "beyond"
    elif -margin <= low and high <= margin:
        relevance = "within"
    else:
        relevance = "undetermined"
    reach = max(row.estimate - strict[0], strict[1] - row.estimate)
    notes = list(row.notes)
    if row.verdict in row.measure.words:
        notes.append(_RELEVANCE_NOTES[relevance]())
    ratio = row.scale == "ratio"
    smallest = math.expm1(reach) if ratio and math.isfinite(reach) and reach < 50 else reach
    finished = replace(
        row,
        estimate=math.exp(row.estimate) if ratio else row.estimate,
        low=_exp(low) if ratio else low,
        high=_exp(high) if ratio else high,
        margin=math.expm1(margin) if ratio else margin,
        smallest_shown=smallest if math.isfinite(smallest) else math.nan,
        relevance=relevance,
    )
    return replace(finished, notes=tuple(say.with_interval(note, finished) for note in notes))


def _exp(value: float) -> float:
    """Return e to the value, also at the infinities."""
    return math.inf if value > 700 else math.exp(value)
