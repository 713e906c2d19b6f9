"""From a record whose arms are a chain to its ladder.

Each link is the state after an edit against the one before it, in the same blocks; links of all workloads are one
family, adjusted by Benjamini and Hochberg (1995). The total is the direct pair of the last state and the first, never a
product of links: their estimates share the states between them, and errors would add up.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from bystander.design import ChainKind, Comparison, Measure, Record, chosen_names
from bystander.errors import UsageError
from bystander.stats import estimates, interval
from bystander.verdicts.compared.above_floor import with_floors
from bystander.verdicts.compared.compared import ComparedRecord, main_measure
from bystander.verdicts.compared.row_readings import RowReadings, batches, row_readings
from bystander.verdicts.decided.load import wholes
from bystander.verdicts.decided.pieces import disagreements
from bystander.verdicts.decided.rows import ComparisonRows
from bystander.verdicts.ladders import Ladder, Rung, SoFar
from bystander.verdicts.noted import notes as say
from bystander.verdicts.tested.family import Family
from bystander.verdicts.tested.stopping import PLACEBO_RISK, Stopping, stopping
from bystander.verdicts.types import Row
from bystander.verdicts.wholes import Whole
from bystander.verdicts.words import Scale

__all__ = ["ladder"]

_BESIDE_POWER = 3.71 / 2.87  # how much farther a shift shown in 8 of 10 cases lies than one interval reaches, see below


def ladder(record: Record, only: Sequence[str] = ()) -> Ladder:
    """Return the ladder of a record.

    Parameters
    ----------
    only : sequence of str
        Show workloads of these names or patterns only; that does not lower the number of links.

    Raises
    ------
    UsageError
        When its arms are no chain, or a workload is not there.
    """
    record = with_floors(record)
    head, study = record.head, record.head.study
    if study.chain is None:
        raise UsageError(f"record {head.name} is no chain of states; bystander decide shows it")
    compared, measure = ComparedRecord(record), main_measure(record)
    stopped = stopping(compared)
    kind = ChainKind(study.chain.kind)
    stairs, whole = kind.climbs, kind is not ChainKind.AGAIN
    held = _held_against(record, study.links) if stairs else {}
    rows, together = _decided(compared, study.links, measure, stopped, held)
    so_far = _so_far(compared, measure, 0, [link.candidate for link in study.links]) if stairs else {}
    total_of = Comparison(0, study.links[-1].candidate if stairs else 1)
    total, totals = rows, together
    if whole and total_of not in study.links:
        total, totals = _decided(compared, (total_of,), measure, stopped)
    names = chosen_names(study.workloads, only, f"record {head.name}") if only else ()
    shown = [w for w, workload in enumerate(study.workloads) if not only or workload.name in names]
    by_key = {row.key: row for row in rows}
    for (w, link), comparison in held.items():
        row = by_key[study.workloads[w].name, comparison]
        broken = study.names(link)[0]
        by_key[study.workloads[w].name, link] = row._replace(notes=(say.held_against(row.against, broken), *row.notes))
    apart = disagreements(compared) if kind is ChainKind.PIECES else ()

    def of(comparison: Comparison, found: dict[tuple[str, Comparison], Row]) -> tuple[Row, ...]:
        return tuple(found[study.workloads[w].name, comparison] for w in shown)

    rungs = tuple(
        Rung(
            number,
            head.name,
            link,
            head.arms[comparison.candidate].identity,
            of(comparison, by_key),
            tuple(so_far[w, comparison.candidate] for w in shown) if stairs else (),
            *together[comparison],
        )
        for number, (link, comparison) in enumerate(zip(study.chain.links, study.links, strict=True), 1)
    )
    totalled = of(total_of, {row.key: row for row in total}) if whole else ()
    load, mean = totals.get(total_of, (None, None)) if whole else (None, None)
    if only:  # shares and means are of all workloads
        load = mean = None
        rungs = tuple(replace(rung, load=None, mean=None) for rung in rungs)
    return Ladder(
        head=replace(head, study=replace(study, workloads=tuple(study.workloads[w] for w in shown))),
        kind=kind,
        measure=measure,
        margin=study.margin,
        risk=study.risk,
        rungs=rungs,
        first=tuple(row.reference.median for row in totalled),
        total=totalled,
        total_load=load,
        total_mean=mean,
        blocks=max((row.blocks for row in rows), default=0),
        disagree=tuple(one for one in apart if not only or one.workload in names),
        placebo=_placebo(compared, measure, stopped),
        smallest=tuple(_smallest(rung.rows[i] for rung in rungs) for i in range(len(shown))),
    )


def _held_against(record: Record, links: Sequence[Comparison]) -> dict[tuple[int, Comparison], Comparison]:
    """Return against what a link is held whose first state never ran a workload: the last state before it that did.

    Else the edit that mends a state would be blamed for what the one before it broke.
    """
    study, trials = record.head.study, record.trials
    ran = np.zeros((len(study.workloads), len(study.arms)), dtype=bool)
    ran[trials.workload[~trials.failed], trials.arm[~trials.failed]] = True
    before = {link.candidate: link.reference for link in links}
    held = {}
    for w in range(len(study.workloads)):
        for link in links:
            state: int | None = link.reference
            while state is not None and not ran[w, state]:
                state = before.get(state)
            if state is not None and state != link.reference:
                held[w, link] = Comparison(state, link.candidate)
    return held


def _decided(
    compared: ComparedRecord,
    comparisons: Sequence[Comparison],
    measure: Measure,
    stopped: Stopping,
    held: Mapping[tuple[int, Comparison], Comparison] = MappingProxyType({}),
) -> tuple[list[Row], dict[Comparison, tuple[Whole | None, Whole | None]]]:
    """Return the rows of comparisons that are one family, and what all workloads say together under each.

    Parameters
    ----------
    held : mapping
        By workload and comparison: the comparison that takes its place.
    """
    study = compared.record.head.study
    size = len(study.workloads) * len(comparisons)
    family = Family(study.risk, size, 1, primary=True, strict=study.risk / size, small=True, every=study.every_row)
    of = {(w, one): held.get((w, one), one) for w in range(len(study.workloads)) for one in comparisons}
    made = ComparisonRows(compared, tuple(dict.fromkeys([*comparisons, *held.values()])), study.margin, stopped)
    chosen = {(w, taken) for (w, _), taken in of.items()}
    members = made.members([measure])
    members = members.only([i for i, pair in enumerate(members.pairs) if pair.key in chosen])
    rows = made.of([measure], family, chosen)
    together: dict[Comparison, tuple[Whole | None, Whole | None]] = dict.fromkeys(comparisons, (None, None))
    if len(study.workloads) > 1:
        link_of = {(w, taken): link for (w, link), taken in of.items()}
        places: dict[Comparison, list[int]] = {}
        for i, pair in enumerate(members.pairs):
            places.setdefault(link_of[pair.key], []).append(i)
        for comparison, mine in places.items():
            # What all say together has no family that adjusts it: each link pays for all of them (Bonferroni).
            error = study.risk / len(comparisons)
            found = wholes(compared, members.only(mine), [rows[i] for i in mine], measure, error)
            together[comparison] = found
    return rows, together


_TAINTING = ("placebo-differs", "fails-more", "all-failed")


def _placebo(compared: ComparedRecord, measure: Measure, stopped: Stopping) -> str:
    """Return what the placebo shows, in a sentence; "" without one."""
    study = compared.record.head.study
    if study.control is None:
        return ""
    size = len(study.workloads)
    family = Family(PLACEBO_RISK, size, 1, primary=True, strict=PLACEBO_RISK / size, control=True)
    rows = ComparisonRows(compared, (study.control,), study.margin, stopped).of([measure], family)
    tainting = [row for row in rows if any(map(row.has, _TAINTING))]
    return (
        say.placebo_tainted(tainting).text if tainting else "The placebo shows no difference. Silence proves nothing."
    )


def _so_far(
    compared: ComparedRecord, measure: Measure, first: int, states: Iterable[int]
) -> dict[tuple[int, int], SoFar]:
    """Return every state against the first, by workload and arm."""
    record = compared.record
    study, keys, readings = record.head.study, [], []
    for state in states:
        if state == first:
            continue
        comparison = Comparison(first, state)
        pairs = compared.rows(comparison)
        keys += [(pair.workload, state) for pair in pairs]
        readings += row_readings(record.trials, pairs, compared.readings(measure, comparison), study.margin)
    count = len(readings)
    middle, low, high = np.full(count, np.nan), np.full(count, -np.inf), np.full(count, np.inf)
    for batch in batches(readings):
        middle[batch.rows] = estimates(batch.contrasts)
        low[batch.rows], high[batch.rows] = interval(batch.contrasts, np.full(batch.rows.size, study.risk))
    return {
        key: _told(one, *ends)
        for key, one, *ends in zip(keys, readings, _exp(readings, middle), _exp(readings, low), _exp(readings, high),
                                   strict=True)
    }  # fmt: skip


def _exp(readings: Sequence[RowReadings], values: NDArray[np.float64]) -> list[float]:
    """Return values on the scales on which they are shown."""
    ratios = np.array([one.scale == Scale.RATIO for one in readings], dtype=bool)
    with np.errstate(over="ignore"):
        shown: list[float] = np.where(ratios, np.exp(values), values).tolist()
    return shown


def _told(readings: RowReadings, middle: float, low: float, high: float) -> SoFar:
    return SoFar(readings.scale, middle, low, high, readings.medians[1])


def _smallest(rows: Iterable[Row]) -> float:
    """Return the smallest gain that links of a workload show in 8 of 10 cases, by their own scatter.

    A row's `smallest_shown` reaches as far as its interval at the level of one row alone: a shift of that size is shown
    in half of all cases. For normal scatter the one shown in 80 % is (z_level + 0.84) / z_level times as far, which
    is taken at the level of twelve links and hardly changes with their number.
    """
    known = [math.log1p(row.smallest_shown) for row in rows if row.scale == Scale.RATIO and row.smallest_shown > 0]
    finite = [value for value in known if math.isfinite(value)]
    return math.expm1(float(np.median(finite)) * _BESIDE_POWER) if finite else math.nan
