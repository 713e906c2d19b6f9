"""The decision: one table for every row, with the suite's adjustment."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import MEASURES, Measure, Record, Status, chosen_names
from bystander.errors import UsageError
from bystander.stats import (
    benjamini_hochberg,
    examine,
    fails_more_p,
    fails_more_unpaired_p,
    holm,
    interval,
    rejections,
)
from bystander.units import share_text
from bystander.verdicts import notes as say
from bystander.verdicts.failures import failures
from bystander.verdicts.pairs import Batch, Material, RowTrials, batches, material, row_trials
from bystander.verdicts.rules import Case, outcome
from bystander.verdicts.single import describe
from bystander.verdicts.types import VERDICTS, ArmSide, Decision, Note, Row

__all__ = ["Options", "decide"]

Floats = NDArray[np.float64]
_RELEVANCE_NOTES = {
    "beyond": say.beyond_margin,
    "within": say.within_margin,
    "undetermined": say.margin_undetermined,
}


@dataclass(frozen=True)
class Options:
    """What to decide otherwise than the study says; None leaves it as it is.

    Attributes
    ----------
    arm : str or None
        Show this candidate only.
    only : tuple of str
        Show workloads of these names or patterns only. Neither lowers the number of comparisons.
    """

    measure: str | None = None
    margin: float | None = None
    risk: float | None = None
    arm: str | None = None
    only: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Family:
    """Rows of one candidate that are adjusted together, at risk `alpha` over `size` comparisons."""

    alpha: float
    size: int
    candidates: int
    primary: bool


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


def decide(record: Record, options: Options | None = None) -> Decision:
    """Decide a record by the fixed-number rule: all its blocks, one look.

    Every candidate is a family of its own at risk / candidates; the study's measure and all others
    are separate families, so that the headline does not pay for the rest.

    Raises
    ------
    UsageError
        When an option names an arm, workload or measure that the record does not have.
    """
    options = options or Options()
    head = record.head
    study = head.study
    _known(options, record)
    if options.only:
        names = [workload.name for workload in study.workloads]
        options = replace(options, only=chosen_names(names, options.only, f"record {head.name}"))
    margin = study.margin if options.margin is None else options.margin
    risk = study.risk if options.risk is None else options.risk
    measure = next(m for m in head.measures if m.name == (options.measure or _main_measure(record)))
    others = [m for m in head.measures if m.decided and m is not measure]
    rows: list[Row] = []
    candidates = len(study.arms) - 1
    for candidate in range(1, len(study.arms)):
        pairs = row_trials(record.trials, len(study.workloads), candidate)
        for measures, primary in (([measure], True), (others, False)):
            family = _Family(risk / candidates, len(pairs) * max(1, len(measures)), candidates, primary)
            rows += _family_rows(record, pairs, measures, margin, family)
    shown = [row for row in rows if _shown(row, options)]
    singles = describe(record, [measure, *others])
    return Decision(
        head=head,
        measure=measure,
        margin=margin,
        risk=risk,
        comparisons=study.comparisons,
        rows=tuple(sorted(shown, key=_worst_first)),
        singles=tuple(s for s in singles if not options.only or s.workload in options.only),
        exploration=_exploration(record, options),
        failures=tuple(f for f in failures(record) if not options.only or f.workload in options.only),
        notes=tuple(_record_notes(record)),
    )


def _main_measure(record: Record) -> str:
    """Return the study's measure, or the first one that a record of imported readings has."""
    names = [measure.name for measure in record.head.measures]
    return record.head.study.measure if record.head.study.measure in names else names[0]


def _known(options: Options, record: Record) -> None:
    study = record.head.study
    for word, value, known in (
        (
            "measure",
            options.measure,
            [m.name for m in record.head.measures if m.better or m.name not in MEASURES],
        ),
        ("arm", options.arm, [arm.name for arm in study.arms[1:]]),
    ):
        if value is not None and value not in known:
            told = ", ".join(known) if known else "none to choose"
            raise UsageError(f'record {record.head.name} has no {word} "{value}"; it has {told}')


def _exploration(record: Record, options: Options) -> tuple[str, ...]:
    """Return what the options change, each with what the study says."""
    study, main = record.head.study, _main_measure(record)
    told = []
    if options.measure not in (None, main):
        told.append(f"measure {options.measure} instead of {main}")
    for word, chosen, fixed in (("margin", options.margin, study.margin), ("risk", options.risk, study.risk)):
        if chosen is not None and chosen != fixed:
            told.append(f"{word} {share_text(chosen)} instead of {share_text(fixed)}")
    return tuple(told)


def _shown(row: Row, options: Options) -> bool:
    return options.arm in (None, row.arm) and (not options.only or row.workload in options.only)


def _worst_first(row: Row) -> tuple[bool, int, float]:
    worth = row.estimate if math.isfinite(row.estimate) else 0.0
    if row.scale == "difference" and row.reference.median > 0:
        worth = 1 + worth / row.reference.median
    return not row.primary, VERDICTS.index(row.verdict), -worth


def _family_rows(
    record: Record, pairs: Sequence[RowTrials], measures: Sequence[Measure], margin: float, family: _Family
) -> list[Row]:
    members = [(pair, measure) for measure in measures for pair in pairs]
    materials = [material(record, pair, measure, margin) for pair, measure in members]
    groups = list(batches(materials))
    tested = _test(record, members, materials, groups, family)
    drafts = [
        _judge(record, pair, measure, materials[i], tested, i, family)
        for i, (pair, measure) in enumerate(members)
        if materials[i].testable or family.primary
    ]
    places = [i for i in range(len(members)) if materials[i].testable or family.primary]
    return _with_intervals(drafts, places, materials, groups, family)


def _test(
    record: Record,
    members: Sequence[tuple[RowTrials, Measure]],
    materials: Sequence[Material],
    groups: Sequence[Batch],
    family: _Family,
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
    q = benjamini_hochberg(np.where(tested_e <= family.alpha, 1.0, tested_p), family.size)
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


def _judge(
    record: Record, pair: RowTrials, measure: Measure, stuff: Material, tested: _Tested, i: int, family: _Family
) -> Row:
    """Return a row with its verdict; its interval is filled in later, for all rows at once.

    Until then `confidence` says at which level it will be, and `low` and `high` are unbounded.
    """
    study = record.head.study
    sides = [_side(record, pair.reference, stuff.medians[0]), _side(record, pair.candidate, stuff.medians[1])]
    silent = [study.arms[a].name for a, side in zip((0, pair.arm), sides, strict=True) if not side.trials]
    p, e, q, q_e = (float(column[i]) for column in (tested.p, tested.e, tested.q, tested.q_e))
    found = outcome(
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
    places: Sequence[int],
    materials: Sequence[Material],
    groups: Sequence[Batch],
    family: _Family,
) -> list[Row]:
    """Fill in interval, relevance and the notes that depend on them."""
    count = len(materials)
    error, low, high = np.ones(count), np.full(count, -np.inf), np.full(count, np.inf)
    for draft, place in zip(drafts, places, strict=True):
        error[place] = 1 - draft.confidence
    shown_low, shown_high = low.copy(), high.copy()
    strict = np.full(count, family.alpha / family.size)
    for group in groups:
        low[group.rows], high[group.rows] = interval(group.contrasts, error[group.rows])
        ends = interval(group.contrasts, strict[group.rows])
        shown_low[group.rows], shown_high[group.rows] = ends
    return [
        _finished(draft, materials[i], (float(low[i]), float(high[i])), (float(shown_low[i]), float(shown_high[i])))
        for draft, i in zip(drafts, places, strict=True)
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


def _record_notes(record: Record) -> list[Note]:
    head = record.head
    notes = [Note("record-note", text) for text in head.notes]
    if not head.complete:
        notes.insert(
            0,
            Note("unfinished", "The observation was not finished: it is decided on the blocks that are whole."),
        )
    return notes
