"""The decision: one table for every row, with the suite's adjustment."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from bystander.design import MEASURES, Comparison, Measure, Record, Start, chosen_names, state_changes, stretches
from bystander.errors import UsageError
from bystander.units import share_text
from bystander.verdicts.ceilings import CeilingRow
from bystander.verdicts.compared.above_floor import with_floors
from bystander.verdicts.compared.compared import ComparedRecord, main_measure
from bystander.verdicts.decided.ceilings import ceiling_rows
from bystander.verdicts.decided.distribution import distributed
from bystander.verdicts.decided.load import by_contribution, wholes
from bystander.verdicts.decided.rows import ComparisonRows
from bystander.verdicts.described.blocks import BlockSeries, block_series
from bystander.verdicts.described.failures import failures
from bystander.verdicts.described.over_time import trials_to_see
from bystander.verdicts.described.single import describe, queue_sentences
from bystander.verdicts.noted import notes as say
from bystander.verdicts.tested.family import OTHER_TIME, Family, FamilyRows
from bystander.verdicts.tested.stopping import PLACEBO_RISK, Stopping, stopping
from bystander.verdicts.types import Decision, GateAsk, Note, Row
from bystander.verdicts.wholes import Whole
from bystander.verdicts.words import CeilingVerdict, Order, Relevance, Scale, Verdict

__all__ = ["Options", "decide"]

_CHANGED = (Verdict.SLOWER, Verdict.FASTER)
_TAINTING = ("placebo-differs", "fails-more", "all-failed")


@dataclass(frozen=True)
class Options:
    """What to decide otherwise than the study says; None leaves it as it is.

    Attributes
    ----------
    arm : str or None
        Show this candidate only.
    only : tuple of str
        Show workloads of these names or patterns only. Neither lowers the number of comparisons.
    gate : GateAsk or None
        Give each row that a gate looks at the bound for it.
    order : Order
        In which rows stand.
    """

    measure: str | None = None
    margin: float | None = None
    risk: float | None = None
    arm: str | None = None
    only: tuple[str, ...] = ()
    gate: GateAsk | None = None
    order: Order = Order.WORST


def decide(record: Record, options: Options | None = None) -> Decision:
    """Decide a record: each row at the look at which the study's stopping rule ended it.

    Every comparison is a family of its own at risk / comparisons, but for the links of a chain, which are one at the
    risk; the study's measure and all others are separate families, so that the headline does not pay for the rest.

    Raises
    ------
    UsageError
        When an option names an arm, workload or measure that the record does not have.
    """
    options, record = options or Options(), with_floors(record)
    head = record.head
    _known(options, record)
    if options.only:
        options = replace(options, only=chosen_names(head.study.workloads, options.only, f"record {head.name}"))
    question, compared = _question(record, options), ComparedRecord(record)
    stopped = stopping(compared)
    rows, together, series = _rows(compared, question, stopped)
    placebo = _control_rows(compared, question, stopped)
    if options.only:
        together = []
    singles = describe(record, [question.measure, *question.others], stopped.counting(record))
    mine = [single for single in singles if single.measure is question.measure]
    main, parts = distributed([row for row in rows if row.primary], mine, question.risk)
    rows = [*main, *(row for row in rows if not row.primary)]
    shown = [row for row in _or_cpu(_part_and_whole(rows)) if _shown(row, options)]
    shown.sort(key=_worst_first)
    loads = tuple(load for load, _ in together if load and options.arm in (None, load.arm))
    if options.order == Order.CONTRIBUTION:
        shown = _contributing(shown, loads, head.name, bool(options.only))
    return Decision(
        head=head,
        measure=question.measure,
        margin=question.margin,
        risk=question.risk,
        comparisons=head.study.planned_rows,
        rows=tuple(shown),
        order=options.order,
        ceilings=_ceilings(compared, question, stopped, options),
        singles=tuple(s for s in singles if not options.only or s.workload in options.only),
        exploration=_exploration(record, options),
        failures=tuple(f for f in failures(record) if not options.only or f.workload in options.only),
        placebo=placebo,
        notes=tuple(_record_notes(record, placebo, stopped)),
        distributions=tuple(one for one in parts if not options.only or one.workload in options.only),
        looks=max(stopped.looks, key=lambda looks: looks.most),
        looks_of=stopped.looks,
        loads=loads,
        means=tuple(mean for _, mean in together if mean and options.arm in (None, mean.arm)),
        series={row.key: series[row.key] for row in shown if row.primary and row.looked_at and row.key in series},
        to_see=tuple(t for t in trials_to_see(record) if not options.only or t.workload in options.only),
        queued=() if head.study.comparisons else _queued(record, stopped),
    )


def _queued(record: Record, stopped: Stopping) -> tuple[str, ...]:
    """Return which workloads of one state waited for a processor, and what their code took."""
    measures = [one for one in record.head.measures if one.name in ("elapsed", "cpu", "run_queue_delay")]
    sampled = {one.name for one in record.head.study.workloads if one.start is Start.IN_PROCESS}
    return tuple(queue_sentences(describe(record, measures, stopped.counting(record)), sampled))


@dataclass(frozen=True)
class _Question:
    """What is decided: the study's own question, or what was asked instead.

    Attributes
    ----------
    others : tuple of Measure
        Those besides the measure, in families of their own.
    bound : float
        The one-sided level of each row's bound for a gate; NaN without one.
    """

    measure: Measure
    others: tuple[Measure, ...]
    margin: float
    risk: float
    bound: float


def _question(record: Record, options: Options) -> _Question:
    head, study = record.head, record.head.study
    measure = next((m for m in head.measures if m.name == options.measure), main_measure(record))
    gated = (options.gate.measures or (measure.name,)) if options.gate else ()
    others = tuple(
        m
        for m in head.measures
        if m is not measure and ((m.decided and not _says_the_same(record, m)) or m.name in gated)
    )
    margin = study.margin if options.margin is None else options.margin
    risk = study.risk if options.risk is None else options.risk
    bound = risk / max(1, study.planned_rows * len(gated)) if gated else math.nan
    return _Question(measure, others, margin, risk, bound)


def _rows(
    compared: ComparedRecord, question: _Question, stopped: Stopping
) -> tuple[list[Row], list[tuple[Whole | None, Whole | None]], dict[tuple[str, Comparison], BlockSeries]]:
    """Return the rows of all comparisons, by the measure and by the others, what all say, and blocks by the measure."""
    study, rows, together = compared.record.head.study, [], []
    series: dict[tuple[str, Comparison], BlockSeries] = {}
    for comparisons in study.families:
        made = ComparisonRows(compared, comparisons, question.margin, stopped)
        for measures, primary in (((question.measure,), True), (question.others, False)):
            size = len(study.workloads) * len(comparisons) * max(1, len(measures))
            alpha = question.risk / study.sharing
            family = Family(
                alpha, size, study.sharing, primary, alpha / size, bound=question.bound, small=bool(study.chain),
                every=study.every_row,
            )  # fmt: skip
            found = made.of(measures, family)
            rows += found
            if primary:
                members = made.members(measures)
                if not study.chain or len(comparisons) == 1:  # of links, each pays for all of them in their ladder
                    together += _wholes(compared, members, found, question)
                blocks = zip(found, map(block_series, members.readings), strict=True)
                series |= {row.key: one for row, one in blocks if one is not None}
    return rows, together, series


def _wholes(
    compared: ComparedRecord, members: FamilyRows, found: Sequence[Row], question: _Question
) -> list[tuple[Whole | None, Whole | None]]:
    """Return what all workloads say together under each comparison of a family."""
    together = []
    for comparison in dict.fromkeys(row.comparison for row in found):
        mine = [i for i, row in enumerate(found) if row.comparison == comparison]
        rows = [found[i] for i in mine]
        together.append(wholes(compared, members.only(mine), rows, question.measure, question.risk))
    return together


def _control_rows(compared: ComparedRecord, question: _Question, stopped: Stopping) -> tuple[Row, ...]:
    """Return the rows of the placebo, all of them whatever else is shown; they take nothing from the risk."""
    study = compared.record.head.study
    if study.control is None:
        return ()
    strict = question.risk / max(1, study.planned_rows)
    family = Family(PLACEBO_RISK, len(study.workloads), 1, primary=True, strict=strict, control=True)
    return tuple(ComparisonRows(compared, (study.control,), question.margin, stopped).of([question.measure], family))


def _ceilings(
    compared: ComparedRecord, question: _Question, stopped: Stopping, options: Options
) -> tuple[CeilingRow, ...]:
    """Return the ceilings that are shown, the worst first; what is shown does not lower their number."""
    order = list(CeilingVerdict)
    rows = ceiling_rows(compared, stopped.ceilings, question.risk)
    shown = [
        row
        for row in rows
        if options.arm in (None, row.arm) and (not options.only or row.workload in options.only)
    ]  # fmt: skip
    return tuple(sorted(shown, key=lambda row: order.index(row.verdict)))


def _says_the_same(record: Record, measure: Measure) -> bool:
    """Whether a phase alone is just that phase, because there is never another one inside."""
    kind, _, phase = measure.name.partition(":")
    if kind != "phase-alone" or not record.reads(f"phase:{phase}"):
        return False
    alone, whole = record.column(measure.name), record.column(f"phase:{phase}")
    return bool(np.array_equal(alone, whole, equal_nan=True))


def _part_and_whole(rows: Sequence[Row]) -> list[Row]:
    """Say on rows of the study's measure where a phase changed and the whole did not, or went the other way."""
    whole = {row.key: row for row in rows if row.measure.name == "elapsed"}
    parts: dict[tuple[str, Comparison], list[Row]] = {}
    for row in rows:
        if row.measure.name.startswith("phase:") and row.verdict in _CHANGED and row.relevance == Relevance.BEYOND:
            all_of_it = whole.get(row.key)
            if all_of_it and all_of_it.verdict in {Verdict.SAME, *_CHANGED} - {row.verdict}:
                parts.setdefault(row.key, []).append(row)
    return [
        row._replace(notes=(*row.notes, say.part_and_whole(parts[row.key], whole[row.key])))
        if row.primary and row.key in parts
        else row
        for row in rows
    ]


_COMPUTING, _FEWER = 0.8, 0.7


def _or_cpu(rows: Sequence[Row]) -> list[Row]:
    """Say on unclear rows of elapsed time where CPU time would show the margin in clearly fewer blocks.

    Only of programs that compute most of their time: CPU time sees no waiting.
    """
    other = {row.key: row for row in rows if row.measure.name == OTHER_TIME and not row.primary}
    found = []
    for row in rows:
        cpu = other.get(row.key)
        if cpu and row.primary and row.verdict == Verdict.UNCLEAR and row.measure.name == "elapsed" and row.looked_at:
            computing = cpu.reference.median >= _COMPUTING * row.reference.median
            if computing and cpu.blocks_for_margin <= _FEWER * _or_many(row.blocks_for_margin):
                row = row._replace(notes=say.or_cpu(row.notes, cpu.blocks_for_margin))
        found.append(row)
    return found


def _or_many(blocks: float) -> float:
    return math.inf if math.isnan(blocks) else blocks


def _known(options: Options, record: Record) -> None:
    study = record.head.study
    for word, value, known in (
        (
            "measure",
            options.measure,
            [m.name for m in record.head.measures if m.better or m.name not in MEASURES],
        ),
        ("arm", options.arm, list(dict.fromkeys(study.names(one)[1] for one in study.comparisons))),
    ):
        if value is not None and value not in known:
            choices = ", ".join(known) if known else "none to choose"
            raise UsageError(f'record {record.head.name} has no {word} "{value}"; it has {choices}')


def _exploration(record: Record, options: Options) -> tuple[str, ...]:
    """Return what the options change, each with what the study says."""
    study, main = record.head.study, main_measure(record).name
    changes = []
    if options.measure not in (None, main):
        changes.append(f"measure {options.measure} instead of {main}")
    for word, chosen, fixed in (("margin", options.margin, study.margin), ("risk", options.risk, study.risk)):
        if chosen is not None and chosen != fixed:
            changes.append(f"{word} {share_text(chosen)} instead of {share_text(fixed)}")
    return tuple(changes)


def _shown(row: Row, options: Options) -> bool:
    return options.arm in (None, row.arm) and (not options.only or row.workload in options.only)


_WORST_FIRST = {verdict: place for place, verdict in enumerate(Verdict)}


def _worst_first(row: Row) -> tuple[bool, int, float]:
    worth = row.estimate if math.isfinite(row.estimate) else 0.0
    if row.scale == Scale.DIFFERENCE and row.reference.median > 0:
        worth = 1 + worth / row.reference.median
    return not row.primary, _WORST_FIRST[row.verdict], -worth


def _contributing(rows: Sequence[Row], loads: Sequence[Whole], record: str, some: bool) -> list[Row]:
    """Return rows by what they add to the whole load; raise UsageError where there is none."""
    if not any(load.parts for load in loads):
        why = "there is no total of it" if loads else "no workload has a weight"
        why = "--only leaves some workloads out" if some else why
        raise UsageError(f"--order contribution goes by the whole load, and in record {record} {why}")
    primary = by_contribution([row for row in rows if row.primary], loads)
    return [*primary, *(row for row in rows if not row.primary)]


def _unfinished(stopped: Stopping) -> str:
    if all(len(looks.blocks) == 1 for looks in stopped.looks):
        return "The observation was not finished: it is decided on the blocks that are whole."
    return "The observation was not finished: each row is decided at the last look that it reached."


def _record_notes(record: Record, placebo: Sequence[Row], stopped: Stopping) -> list[Note]:
    head = record.head
    notes = [Note("record-note", text) for text in head.notes]
    notes += [Note("machine-changed", text) for text in state_changes(stretches(record.machine_states))]
    if not head.complete:
        notes.insert(
            0,
            Note("unfinished", _unfinished(stopped)),
        )
    if tainting := [row for row in placebo if any(map(row.has, _TAINTING))]:
        notes.insert(0, say.placebo_tainted(tainting))
    return notes
