"""Testing the rows of a family: of one comparison, or all links of a chain; for the study's measure or all others."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import Comparison, Measure, Record
from bystander.stats import (
    WRITTEN_OUT,
    RowLooks,
    benjamini_hochberg,
    blocks_to_show,
    examine,
    fails_more_unpaired_p,
    holm,
    intervals,
    rejections,
)
from bystander.verdicts.compared.compared import ComparedRecord
from bystander.verdicts.compared.row_readings import RowReadings, row_readings
from bystander.verdicts.compared.row_trials import RowTrials, first_blocks
from bystander.verdicts.tested.family import OTHER_TIME, Family, FamilyRows, Intervals, Tested
from bystander.verdicts.tested.stopping import Stopping, fails_more
from bystander.verdicts.types import Stop
from bystander.verdicts.words import StopReason

__all__ = ["CountingRows", "counting_rows", "family_intervals", "family_of", "tested"]


@dataclass(frozen=True)
class CountingRows:
    """The rows of a comparison as far as they count: up to the looks that ended them.

    Attributes
    ----------
    run : list of int
        How many blocks were run of each; 0 without pairing.
    """

    comparison: Comparison
    pairs: list[RowTrials]
    stops: list[Stop]
    run: list[int]
    looks: RowLooks


def counting_rows(compared: ComparedRecord, comparison: Comparison, stopped: Stopping) -> CountingRows:
    """Return the rows of a comparison, each with the blocks that count."""
    pairs, trials = compared.rows(comparison), compared.record.trials
    stops = [stopped.of(pair) for pair in pairs]
    counting = [
        pair if stop.look is None or stop.reason == StopReason.FIXED else first_blocks(trials, pair, stop.blocks)
        for pair, stop in zip(pairs, stops, strict=True)
    ]
    run = [pair.reference.size if pair.paired else 0 for pair in pairs]
    looks = RowLooks([stopped.looks[pair.workload] for pair in pairs])
    return CountingRows(comparison, counting, stops, run, looks)


def family_of(
    compared: ComparedRecord, counting: CountingRows, measures: Sequence[Measure], margin: float
) -> FamilyRows:
    """Return the rows of a comparison for some measures."""
    readings: list[RowReadings] = []
    for measure in measures:
        seen = compared.readings(measure, counting.comparison)
        readings += row_readings(compared.record.trials, counting.pairs, seen, margin)
    each = [measure for measure in measures for _ in counting.pairs]
    times = len(measures)
    return FamilyRows(
        counting.pairs * times,
        each,
        readings,
        counting.stops * times,
        RowLooks(counting.looks.rows * times),
        counting.run * times,
    )


def tested(record: Record, rows: FamilyRows, family: Family) -> Tested:
    """Return what the tests say of all rows, adjusted over the family."""
    count = len(rows.pairs)
    estimate, p, e = np.full(count, np.nan), np.full(count, np.nan), np.full(count, np.nan)
    leans = np.zeros(count, dtype=np.int64)
    limits = np.array([row.margin for row in rows.readings])
    for group in rows.groups:
        found = examine(group.contrasts, limits[group.rows])
        estimate[group.rows], leans[group.rows] = found.estimate, found.leans
        p[group.rows], e[group.rows] = found.p, found.e
    p, e = rows.looks.overall(rows.look, p), rows.looks.overall_one_sided(rows.look, e)
    tested_p, tested_e = np.nan_to_num(p, nan=1.0), np.nan_to_num(e, nan=1.0)
    # A row shown to be the same does not ask to be a change as well, but where small changes count.
    changed_p = tested_p if family.small else np.where(tested_e <= family.alpha, 1.0, tested_p)
    adjust = holm if family.control or family.every else benjamini_hochberg
    p_adjusted = adjust(tested_p if family.control else changed_p, family.size)
    e_adjusted = benjamini_hochberg(tested_e, family.size)
    fails = np.ones((2, count))
    if family.primary and record.trials.failed.any():
        for side in (0, 1):
            raw = np.array([_fails_more(record, pair.turned if side else pair) for pair in rows.pairs])
            fails[side] = holm(rows.looks.overall_one_sided(rows.look, raw), family.size)
    # The least e that so many blocks can have must be small enough for one row alone.
    sizes = np.array([row.size if row.paired else 10_000 for row in rows.readings], dtype=np.float64)
    attainable = rows.looks.overall_one_sided(rows.look, 2.0**-sizes) <= family.alpha / family.size
    accepted, same = rejections(p_adjusted, family.alpha), rejections(e_adjusted, family.alpha)
    if family.every:  # intervals that hold together (Bonferroni)
        accepted = min(1, accepted)
    return Tested(estimate, leans, p, e, p_adjusted, e_adjusted, fails[0], fails[1], attainable, accepted, same)


def _fails_more(record: Record, pair: RowTrials) -> float:
    """Return the raw p that the candidate fails more often."""
    if pair.paired:
        return fails_more(record, pair)
    reference = record.trials.failed[pair.reference]
    candidate = record.trials.failed[pair.candidate]
    return fails_more_unpaired_p(int(candidate.sum()), candidate.size, int(reference.sum()), reference.size)


def family_intervals(rows: FamilyRows, seen: Tested, error: NDArray[np.float64], family: Family) -> Intervals:
    """Return the intervals of all rows, at one minus `error` and at the level of one row alone."""
    count = len(rows.pairs)
    low, high = np.full(count, -np.inf), np.full(count, np.inf)
    reach, needed, worse = np.full(count, np.nan), np.full(count, np.nan), np.full(count, np.nan)
    error = rows.looks.nominal(rows.look, error)
    alone = rows.looks.nominal(rows.look, np.full(count, family.strict))
    margin = np.array([row.margin for row in rows.readings])
    alone_in_its_family = family.alpha / max(1, len({pair.key for pair in rows.pairs}))
    last = rows.looks.at_last(alone_in_its_family)
    gated = math.isfinite(family.bound) and not family.control
    one_sided = [rows.looks.nominal(rows.look, np.full(count, min(1.0, 2 * family.bound)))] if gated else []
    levels = np.stack([error, alone, *one_sided], axis=1)
    less_is_worse = np.array([measure.better == "more" for measure in rows.measures])
    for group in rows.groups:
        at, contrasts = group.rows, group.contrasts
        lows, highs = intervals(contrasts, levels[at])
        low[at], high[at] = lows[:, 0], highs[:, 0]
        ends = lows[:, 1], highs[:, 1]
        if gated:
            worse[at] = np.where(less_is_worse[at], lows[:, 2], highs[:, 2])
        reach[at] = np.maximum(seen.estimate[at] - ends[0], ends[1] - seen.estimate[at])
        asked = np.array([family.primary or rows.measures[i].name == OTHER_TIME for i in at.tolist()])
        size = rows.readings[int(at[0])].size
        # CPU time of few blocks is asked only where it is examined by itself.
        if size and not family.control and (asked.all() or size > WRITTEN_OUT):
            blocks = blocks_to_show(contrasts, seen.estimate[at], margin[at], last[at])
            needed[at] = np.where(asked, blocks, np.nan)
    return Intervals(low, high, reach, needed, worse)
