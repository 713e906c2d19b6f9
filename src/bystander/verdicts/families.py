"""Rows that are tested and adjusted together: one candidate's, for the study's measure or for all others."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record
from bystander.stats import (
    benjamini_hochberg,
    blocks_to_show,
    examine,
    fails_more_unpaired_p,
    holm,
    interval,
    rejections,
)
from bystander.verdicts.members import OTHER_TIME, Family, Members, Spans, Tested
from bystander.verdicts.pairs import Material, RowTrials, first_blocks, materials
from bystander.verdicts.readings import readings_of
from bystander.verdicts.rows import Rows
from bystander.verdicts.soundness import soundness_notes
from bystander.verdicts.stopping import Stopping, fails_more
from bystander.verdicts.types import Note, Row

__all__ = ["family_rows"]


def family_rows(
    record: Record,
    pairs: Sequence[RowTrials],
    measures: Sequence[Measure],
    margin: float,
    family: Family,
    stopped: Stopping,
) -> list[Row]:
    """Return the rows of a family with their verdicts and intervals."""
    members = _members(record, pairs, measures, margin, stopped)
    if not family.primary:  # what only some programs tell of themselves counts only where it is told
        members = members.only([i for i, row in enumerate(members.materials) if row.testable])
        size = max(1, len(members.pairs))
        family = replace(family, size=size, strict=family.alpha / size)
    tested = _tested(record, members, family)
    rows = Rows(record, members, tested, family, margin)
    places = range(len(members.pairs))
    found = [rows.judged(i) for i in places]
    spans = _spans(members, tested, np.array([one.error for one in found]), family)
    sound: list[list[Note]] = [[]] * len(found)
    if family.primary and not family.placebo:
        sound = soundness_notes(record, members.pairs, members.materials)
    return [rows.finished(i, found[i], spans, sound[i]) for i in places]


def _members(
    record: Record, pairs: Sequence[RowTrials], measures: Sequence[Measure], margin: float, stopped: Stopping
) -> Members:
    stops = [stopped.of(pair) for pair in pairs]
    counting = [
        pair if stop.look is None or stop.reason == "fixed" else first_blocks(record.trials, pair, stop.blocks)
        for pair, stop in zip(pairs, stops, strict=True)
    ]
    workloads, arms = [pair.workload for pair in pairs], [0, *(pair.arm for pair in pairs[:1])]
    found: list[Material] = []
    for measure in measures:
        found += materials(record.trials, counting, readings_of(record, measure, workloads, arms), margin)
    each = [measure for measure in measures for _ in counting]
    run = [pair.reference.size if pair.paired else 0 for pair in pairs] * len(measures)
    return Members(counting * len(measures), each, found, stops * len(measures), stopped.looks, run)


def _tested(record: Record, members: Members, family: Family) -> Tested:
    count = len(members.pairs)
    estimate, p, e = np.full(count, np.nan), np.full(count, np.nan), np.full(count, np.nan)
    leans = np.zeros(count, dtype=np.int64)
    limits = np.array([row.margin for row in members.materials])
    for group in members.groups:
        seen = examine(group.contrasts, limits[group.rows])
        estimate[group.rows], leans[group.rows] = seen.estimate, seen.leans
        p[group.rows], e[group.rows] = seen.p, seen.e
    p, e = members.looks.overall(members.look, p), members.looks.overall_one_sided(members.look, e)
    tested_p, tested_e = np.nan_to_num(p, nan=1.0), np.nan_to_num(e, nan=1.0)
    # A row shown to be the same does not ask to be a change as well.
    changed_p = np.where(tested_e <= family.alpha, 1.0, tested_p)
    q = holm(tested_p, family.size) if family.placebo else benjamini_hochberg(changed_p, family.size)
    q_e = benjamini_hochberg(tested_e, family.size)
    fails = np.ones((2, count))
    if family.primary and record.trials.failed.any():
        for side in (0, 1):
            raw = np.array([_fails_more(record, _turned(pair) if side else pair) for pair in members.pairs])
            fails[side] = holm(members.looks.overall_one_sided(members.look, raw), family.size)
    # The least e that so many blocks can have must be small enough for one row alone.
    sizes = np.array([row.size if row.paired else 10_000 for row in members.materials], dtype=np.float64)
    attainable = members.looks.overall_one_sided(members.look, 2.0**-sizes) <= family.alpha / family.size
    accepted, same = rejections(q, family.alpha), rejections(q_e, family.alpha)
    return Tested(estimate, leans, p, e, q, q_e, fails[0], fails[1], attainable, accepted, same)


def _turned(pair: RowTrials) -> RowTrials:
    """Return a row with its arms changed over."""
    return replace(pair, reference=pair.candidate, candidate=pair.reference)


def _fails_more(record: Record, pair: RowTrials) -> float:
    """Return the raw p that the candidate fails more often."""
    if pair.paired:
        return fails_more(record, pair)
    reference = record.trials.failed[pair.reference]
    candidate = record.trials.failed[pair.candidate]
    return fails_more_unpaired_p(int(candidate.sum()), candidate.size, int(reference.sum()), reference.size)


def _spans(members: Members, tested: Tested, error: NDArray[np.float64], family: Family) -> Spans:
    """Return the intervals of all rows, at one minus `error` and at the level of one row alone."""
    count = len(members.pairs)
    low, high = np.full(count, -np.inf), np.full(count, np.inf)
    reach, needed, worse = np.full(count, np.nan), np.full(count, np.nan), np.full(count, np.nan)
    error = members.looks.nominal(members.look, error)
    alone = members.looks.nominal(members.look, np.full(count, family.strict))
    margin = np.array([row.margin for row in members.materials])
    alone_in_its_family = family.alpha / max(1, len({pair.workload for pair in members.pairs}))
    last = float(members.looks.nominal(len(members.looks.blocks) - 1, np.array(alone_in_its_family)))
    gated = math.isfinite(family.bound) and not family.placebo
    one_sided = members.looks.nominal(members.look, np.full(count, min(1.0, 2 * family.bound))) if gated else None
    less_is_worse = np.array([measure.better == "more" for measure in members.measures])
    for group in members.groups:
        rows, contrasts = group.rows, group.contrasts
        if one_sided is not None:
            worse[rows] = np.where(less_is_worse[rows], *interval(contrasts, one_sided[rows]))
        low[rows], high[rows] = interval(contrasts, error[rows])
        ends = interval(contrasts, alone[rows])
        reach[rows] = np.maximum(tested.estimate[rows] - ends[0], ends[1] - tested.estimate[rows])
        asked = [i for i in rows.tolist() if family.primary or members.measures[i].name == OTHER_TIME]
        if len(asked) == rows.size and not family.placebo and members.materials[int(rows[0])].paired:
            needed[rows] = blocks_to_show(contrasts, tested.estimate[rows], margin[rows], last)
    return Spans(low, high, reach, needed, worse)
