"""The effect on the whole load, and the suite's geometric mean: all rows of a comparison taken together."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure, Record
from bystander.stats import (
    comparable,
    interval,
    intervals,
    part_errors,
    ratio_of_sums,
    stopping_bias,
    student_quantile,
    weighted_sum,
)
from bystander.units import counted
from bystander.verdicts.compared.compared import ComparedRecord
from bystander.verdicts.tested.family import FamilyRows
from bystander.verdicts.types import Row
from bystander.verdicts.wholes import LoadPart, SumsOfLoad, Whole
from bystander.verdicts.words import Scale, Verdict

__all__ = ["FEWEST_BLOCKS_OF_A_PART", "by_contribution", "wholes"]

Floats = NDArray[np.float64]
FEWEST_BLOCKS_OF_A_PART = 6
_NEGLIGIBLE = 1e-12


@dataclass(frozen=True)
class _Members:
    """The rows of one comparison for the study's measure, with the decided row of each."""

    record: Record
    rows: FamilyRows
    decided: Sequence[Row]
    error: float

    def left_out(self, i: int) -> str:
        """Return why a row does not count: "another answer", "failed", or "" where it does."""
        if self.decided[i].has("answer-differs"):
            return "another answer"
        return "failed" if self.decided[i].verdict == Verdict.FAILED else ""

    def prevents(self, i: int, bounded: bool) -> str:
        """Return why a row that counts makes a total impossible, as a clause; "" where it does not."""
        readings, row = self.rows.readings[i], self.decided[i]
        if not row.looked_at:
            return "it was not looked at yet"
        size = readings.size if readings.paired else min(readings.reference[0].size, readings.candidate[0].size)
        if size < FEWEST_BLOCKS_OF_A_PART:
            return f"it has {counted(size, 'block') if readings.paired else counted(size, 'trial') + ' of an arm'}"
        if readings.scale != Scale.RATIO:
            return "not all of its readings are above zero"
        return "" if bounded else "failed trials leave it without a bound"


def wholes(
    compared: ComparedRecord, rows: FamilyRows, decided: Sequence[Row], measure: Measure, error: float
) -> tuple[Whole | None, Whole | None]:
    """Return the whole load and the geometric mean of one comparison; None where there is none to tell of.

    Parameters
    ----------
    rows : FamilyRows
        Of the study's measure alone, in the study's order.
    decided : sequence of Row
        The same, decided.
    error : float
        One minus the level of the intervals.
    """
    members = _Members(compared.record, rows, decided, error)
    study = compared.record.head.study
    counted = [i for i in range(len(decided)) if not members.left_out(i)]
    weights = [decided[i].weight for i in range(len(decided))]
    weighted = [i for i in counted if weights[i]]
    ends = _Ends.of(members)
    load = mean = None
    if measure.unit == "s" and any(weights):
        runs = np.array([(w or 0.0) * one.scale for w, one in zip(weights, study.workloads, strict=True)])
        load = _load(compared, members, ends, weighted, runs, measure)
        bare = [row.workload for row in decided if row.weight is None]
        load = replace(load, without_weight=tuple(bare), per=study.per)
        load = _with_left_out(load, members, [i for i in range(len(decided)) if weights[i]])
    if len(decided) > 1 and any(row.scale == Scale.RATIO for row in decided):
        mean = _with_left_out(_mean(members, ends, counted), members, range(len(decided)))
    return load, mean


def by_contribution(rows: Sequence[Row], loads: Sequence[Whole]) -> list[Row]:
    """Return rows in the order of what they add to the whole load, worst first; then those that have no part in it."""
    places = {
        (load.arm, load.against, part.workload): part.contribution for load in loads for part in load.parts
    }  # fmt: skip
    return sorted(rows, key=lambda row: -places.get((row.arm, row.against, row.workload), -math.inf))


@dataclass(frozen=True)
class _Ends:
    """Estimates of all rows on the scale of logarithms, and their intervals at the nominal error of each row's look.

    Attributes
    ----------
    bias : ndarray
        To be added to estimates and ends alike.
    """

    middle: Floats
    bias: Floats
    nominal: Floats
    low: Floats
    high: Floats

    @classmethod
    def of(cls, members: _Members) -> _Ends:
        """Return them; NaN and infinite where nothing was tested."""
        rows, study = members.rows, members.record.head.study
        count = len(members.decided)
        middle, spread = np.full(count, np.nan), np.full(count, np.nan)
        low, high = np.full(count, -np.inf), np.full(count, np.inf)
        nominal = rows.looks.nominal(rows.look, np.full(count, members.error))
        for group in rows.groups:
            low[group.rows], high[group.rows] = interval(group.contrasts, nominal[group.rows])
        for i, (readings, row) in enumerate(zip(rows.readings, members.decided, strict=True)):
            if readings.scale == Scale.RATIO and row.estimate > 0:
                middle[i] = math.log(row.estimate)
                if readings.paired:
                    spread[i] = _spread(low[i], high[i], readings.size, float(nominal[i]))
        margins = np.full(count, math.log1p(study.margin))
        bias = stopping_bias(middle, spread, rows.looks.rows, margins, study.risk / max(1, study.tests))
        return cls(middle, bias, nominal, low, high)

    @property
    def bounded(self) -> NDArray[np.bool_]:
        """Whether a row has an estimate and two ends."""
        return np.isfinite(self.middle) & np.isfinite(self.low) & np.isfinite(self.high)

    def at(self, members: _Members, errors: Floats) -> tuple[Floats, Floats, Floats]:
        """Return estimates and ends at other levels, freed of what stopping does to them."""
        if np.allclose(errors, self.nominal, rtol=1e-12, atol=0):  # as without looks: many blocks take their time
            return self.middle + self.bias, self.low + self.bias, self.high + self.bias
        low, high = np.full_like(self.low, -np.inf), np.full_like(self.high, np.inf)
        for group in members.rows.groups:
            lows, highs = intervals(group.contrasts, errors[group.rows][:, None])
            low[group.rows], high[group.rows] = lows[:, 0], highs[:, 0]
        return self.middle + self.bias, low + self.bias, high + self.bias


def _spread(low: float, high: float, blocks: int, error: float) -> float:
    """Return the spread of normal differences whose mean would be known as well as the pseudo-median is.

    The standard deviation would be that of rare slow trials, which a rank test hardly feels: with spikes in 5 % of
    trials and 100 workloads that all got slower, the whole's interval at 95 % then held in 91 %, and holds in 95 %.
    """
    if blocks < 3 or not math.isfinite(high - low):
        return math.nan
    return (high - low) / 2 * math.sqrt(blocks) / student_quantile(error, blocks - 1)


def _whole(members: _Members, places: Sequence[int], ends: _Ends) -> Whole:
    """Return what is known before any total: what counts, and what prevents one."""
    row, bounded = members.decided[0], ends.bounded
    prevented = [(members.decided[i].workload, why) for i in places if (why := members.prevents(i, bool(bounded[i])))]
    names = tuple(members.decided[i].workload for i in places)
    return Whole(
        row.arm, row.against, math.nan, math.nan, math.nan, 1 - members.error, names, prevented=tuple(prevented)
    )


def _with_left_out(whole: Whole, members: _Members, places: Sequence[int]) -> Whole:
    """Return it with the names of the rows that ought to count and do not."""
    why = {i: members.left_out(i) for i in places}
    named = {what: tuple(members.decided[i].workload for i in places if why[i] == what) for what in set(why.values())}
    return replace(whole, other_answer=named.get("another answer", ()), failed=named.get("failed", ()))


def _errors(members: _Members, ends: _Ends, places: Sequence[int], weighted_widths: Floats) -> Floats:
    """Return the error of each part's interval, for all rows; of one part alone it is the row's own."""
    errors = ends.nominal.copy()
    errors[places] = part_errors(weighted_widths, ends.nominal[places], members.error)
    return errors


def _mean(members: _Members, ends: _Ends, places: Sequence[int]) -> Whole:
    """Return the geometric mean of the ratios: the mean of their logarithms, all of one weight."""
    whole = _whole(members, places, ends)
    if whole.prevented or len(places) < 2:
        return whole
    mine = np.array(places)
    errors = _errors(members, ends, places, ends.high[mine] - ends.low[mine])
    middle, low, high = (side[mine] for side in ends.at(members, errors))
    value, below, above = weighted_sum(np.full(mine.size, 1 / mine.size), middle, low, high)
    return replace(whole, ratio=math.exp(value), low=math.exp(below), high=math.exp(above))


def _load(
    compared: ComparedRecord, members: _Members, ends: _Ends, places: Sequence[int], runs: Floats, measure: Measure
) -> Whole:
    """Return the ratio of loads, by typical changes and mean times of the reference."""
    whole = _whole(members, places, ends)
    if whole.prevented or not places:
        return whole
    readings = compared.readings(measure, members.rows.pairs[0].comparison)
    mine, pairs = np.array(places), [members.rows.pairs[i] for i in places]
    means = [float(np.mean(readings.values[pair.reference][readings.good[pair.reference]])) for pair in pairs]
    seconds, shares = runs[mine] * means, comparable(runs[mine]) * means
    shares /= shares.sum()
    widths = np.exp(ends.high[mine] + ends.bias[mine]) - np.exp(ends.low[mine] + ends.bias[mine])
    errors = _errors(members, ends, places, shares * widths)
    ratios, lows, highs = (np.exp(side[mine]) for side in ends.at(members, errors))
    value, low, high = weighted_sum(shares, ratios, lows, highs)
    doubts = (shares * (highs - lows) / 2) ** 2
    doubts = doubts / max(float(doubts.sum()), _NEGLIGIBLE)
    parts = [
        LoadPart(
            members.decided[i].workload, float(runs[i]), float(seconds[k]), float(shares[k]), float(ratios[k]),
            float(lows[k]), float(highs[k]), float(shares[k] * (ratios[k] - 1)), float(doubts[k]),
        )
        for k, i in enumerate(places)
    ]  # fmt: skip
    left_out, before, after = 0, [], []
    for i, pair in zip(places, pairs, strict=True):
        reference, candidate = pair.reference, pair.candidate
        good = readings.good[reference], readings.good[candidate]
        if pair.paired:
            both = good[0] & good[1]
            left_out += int(np.count_nonzero(~both))
            good = both, both
        before.append(readings.values[reference[good[0]]])
        # What stopping at a look does to the typical change, it does to the sums.
        after.append(readings.values[candidate[good[1]]] * math.exp(ends.bias[i]))
    sums = None
    if min(side.size for side in (*before, *after)) > 1:
        plain = ratio_of_sums(runs[mine], before, after, [pair.paired for pair in pairs], members.error)
        sums = SumsOfLoad(plain, left_out, not low <= plain.ratio <= high)
    return replace(
        whole, ratio=value, low=low, high=high, seconds=float(seconds.sum()), sums=sums,
        parts=tuple(sorted(parts, key=lambda part: -part.contribution)),
    )  # fmt: skip
