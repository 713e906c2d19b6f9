"""One row: its verdict by the table, and everything that is said of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from bystander.design import Comparison, Measure, Record
from bystander.stats import blocks_needed
from bystander.verdicts.compared.compared import ComparedRecord
from bystander.verdicts.compared.row_readings import RowReadings
from bystander.verdicts.compared.row_trials import RowTrials, block_seconds
from bystander.verdicts.decided.rules import Outcome, RowFacts, control_outcome, outcome
from bystander.verdicts.noted import notes as say
from bystander.verdicts.noted.marks import marks_notes, start_notes
from bystander.verdicts.noted.soundness import soundness_notes
from bystander.verdicts.tested.families import family_intervals, family_of, tested
from bystander.verdicts.tested.family import OTHER_TIME, Family, FamilyRows, Intervals, Tested
from bystander.verdicts.tested.stopping import Stopping
from bystander.verdicts.types import ArmSide, Note, Row
from bystander.verdicts.words import Relevance, Scale, Verdict

__all__ = ["family_rows"]

_MOST_BLOCKS = 10_000  # nobody runs a record of more
_RELEVANCE_NOTES = {
    Relevance.BEYOND: say.beyond_margin(),
    Relevance.WITHIN: say.within_margin(),
    Relevance.UNDETERMINED: say.margin_undetermined(),
}


@dataclass(frozen=True)
class _WorkloadFacts:
    """What holds for a workload under both arms whatever the measure.

    Attributes
    ----------
    failed : pair of int
        Of the reference and the candidate.
    silent : str or None
        An arm that has no trial.
    first, last : tuple of Note
        What is said before and after the notes of a measure.
    """

    failed: tuple[int, int]
    silent: str | None
    first: tuple[Note, ...]
    last: tuple[Note, ...]


def family_rows(
    compared: ComparedRecord,
    comparison: Comparison,
    measures: Sequence[Measure],
    margin: float,
    family: Family,
    stopped: Stopping,
) -> list[Row]:
    """Return the rows of a family with their verdicts and intervals."""
    members = family_of(compared, comparison, measures, margin, stopped)
    if not family.primary:  # what only some programs tell of themselves counts only where it is told
        members = members.only([i for i, row in enumerate(members.readings) if row.testable])
        size = max(1, len(members.pairs))
        family = replace(family, size=size, strict=family.alpha / size)
    maker = _RowMaker(compared.record, members, tested(compared.record, members, family), family, margin)
    places = range(len(members.pairs))
    found = [maker.judged(i) for i in places]
    ends = family_intervals(members, maker.tested, np.array([one.error for one in found]), family)
    sound: list[list[Note]] = [[]] * len(found)
    if family.primary and not family.control:
        sound = soundness_notes(compared.record, members.pairs, members.readings)
    return [maker.finished(i, found[i], ends, sound[i]) for i in places]


@dataclass(frozen=True)
class _RowMaker:
    """Makes the rows of a family, in two steps: the levels of intervals depend on all verdicts.

    Attributes
    ----------
    margin : float
        As a share.
    """

    record: Record
    rows: FamilyRows
    tested: Tested
    family: Family
    margin: float

    def judged(self, i: int) -> Outcome:
        """Return the verdict of a row, and the level of the interval that goes with it."""
        family, rows, tested = self.family, self.rows, self.tested
        pair, readings = rows.pairs[i], rows.readings[i]
        reference, candidate = self._sides[i]
        return (control_outcome if family.control else outcome)(
            RowFacts(
                reference=reference,
                candidate=candidate,
                silent_arm=self._facts[pair.workload].silent,
                apart=0 if pair.reference.size else pair.apart,
                read=readings.testable,
                first_look=rows.looks.blocks[0] if rows.stops[i].look is None else None,
                fails_more=float(tested.fails_more[i]),
                p=float(tested.p[i]),
                q=float(tested.q[i]),
                e=float(tested.e[i]),
                q_e=float(tested.q_e[i]),
                leans=int(tested.leans[i]),
                blocks=readings.size if readings.paired else None,
                attainable=bool(tested.attainable[i]),
                alpha=family.alpha,
                size=family.size,
                accepted=tested.accepted,
                accepted_same=tested.accepted_same,
                words=rows.measures[i].words,
            )
        )

    def finished(self, i: int, found: Outcome, ends: Intervals, sound: Sequence[Note]) -> Row:
        """Return a row whole, on the scale on which it is shown.

        Parameters
        ----------
        sound : sequence of Note
            What could have fooled it.
        """
        study, rows, tested = self.record.head.study, self.rows, self.tested
        pair, measure, readings = rows.pairs[i], rows.measures[i], rows.readings[i]
        low, high, reach = float(ends.low[i]), float(ends.high[i]), float(ends.reach[i])
        ratio, p, e = readings.scale == Scale.RATIO, float(tested.p[i]), float(tested.e[i])
        estimate, facts = float(tested.estimate[i]), self._facts[pair.workload]
        relevance = _relevance(low, high, readings.margin)
        smallest = math.expm1(reach) if ratio and math.isfinite(reach) and reach < 50 else reach
        smallest = smallest if math.isfinite(smallest) else math.nan
        blocks = math.nan
        if found.verdict == Verdict.UNCLEAR and self.family.primary:
            blocks = _rounded(float(ends.needed[i]), readings.size, self.family)
        elif measure.name == OTHER_TIME and not self.family.primary:
            blocks = _rounded(float(ends.needed[i]), 0, self.family)
        seconds = blocks * block_seconds(self.record, pair) if math.isfinite(blocks) else math.nan
        worse = float(ends.worse[i])
        told = [say.decided_earlier(readings.size, rows.run[i])] if self._earlier(i) else []
        told += [say.with_smallest(found.note, measure, ratio, smallest)] if found.note else []
        if found.verdict in measure.words:
            told.append(_RELEVANCE_NOTES[relevance])
        if float(tested.reference_fails[i]) <= self.family.alpha and found.verdict != Verdict.FAILED:
            told.append(say.reference_fails_more(*self._sides[i], float(tested.reference_fails[i])))
        if math.isfinite(blocks) and self.family.primary:
            told.append(say.needs_blocks(blocks, seconds, self.margin))
        reference, candidate = self._sides[i]
        return Row(
            workload=study.workloads[pair.workload].name,
            arm=study.arms[pair.comparison.candidate].name,
            measure=measure,
            primary=self.family.primary,
            pairing=pair.pairing,
            blocks=readings.size,
            blocks_run=rows.run[i],
            reference=reference,
            candidate=candidate,
            scale=readings.scale,
            estimate=math.exp(estimate) if ratio else estimate,
            low=_exp(low) if ratio else low,
            high=_exp(high) if ratio else high,
            confidence=1 - found.error,
            margin=math.expm1(readings.margin) if ratio else readings.margin,
            p=p,
            p_adjusted=p if math.isnan(p) else min(1.0, float(tested.q[i]) * self.family.sharing),
            e=e,
            e_adjusted=e if math.isnan(e) else min(1.0, float(tested.q_e[i]) * self.family.sharing),
            smallest_shown=smallest,
            verdict=found.verdict,
            relevance=relevance,
            weight=study.workloads[pair.workload].weight,
            notes=(*facts.first, *_measure_notes(measure, readings), *facts.last, *told, *sound),
            stop=rows.stops[i],
            blocks_for_margin=blocks,
            seconds_for_margin=seconds,
            worse_bound=None if math.isnan(self.family.bound) else _exp(worse) if ratio else worse,
            comparison=pair.comparison,
            against=study.arms[pair.comparison.reference].name,
        )

    def _earlier(self, i: int) -> bool:
        """Whether a row of the study's measure was decided before its workload ended."""
        stop, main = self.rows.stops[i], self.family.primary and not self.family.control
        return main and stop.final and stop.look is not None and self.rows.run[i] > stop.blocks > 0

    @cached_property
    def _facts(self) -> dict[int, _WorkloadFacts]:
        """What holds for all measures of a pair, by workload."""
        return {pair.workload: _pair_facts(self.record, pair, self.family) for pair in self.rows.pairs}

    @cached_property
    def _sides(self) -> list[tuple[ArmSide, ArmSide]]:
        """Both arms of each row; without medians before its first look."""
        found = []
        for pair, readings, stop in zip(self.rows.pairs, self.rows.readings, self.rows.stops, strict=True):
            medians = (math.nan, math.nan) if stop.look is None else readings.medians
            failed = self._facts[pair.workload].failed
            found.append(
                (
                    ArmSide(int(pair.reference.size), failed[0], medians[0]),
                    ArmSide(int(pair.candidate.size), failed[1], medians[1]),
                )
            )
        return found


def _pair_facts(record: Record, pair: RowTrials, family: Family) -> _WorkloadFacts:
    study, sides = record.head.study, (pair.reference, pair.candidate)
    failed = tuple(int(np.count_nonzero(record.trials.failed[side])) for side in sides)
    silent = [study.arms[a].name for a, side in zip(pair.comparison.arms, sides, strict=True) if not side.size]
    some = any(0 < count < side.size for count, side in zip(failed, sides, strict=True))
    first: list[Note | None] = [
        say.answers(record, pair) if study.workloads[pair.workload].answer else None,
        say.failures_kept((failed[0], failed[1])) if some else None,
        say.unrandomised(record, pair),
        say.left_out(pair.alone) if pair.alone else None,
        say.blocks_apart(pair.apart) if pair.apart and pair.reference.size else None,
    ]
    last = [*marks_notes(record, pair), *start_notes(record, pair)] if family.primary and not family.control else []
    said = tuple(note for note in first if note is not None)
    return _WorkloadFacts((failed[0], failed[1]), silent[0] if silent else None, said, tuple(last))


def _relevance(low: float, high: float, margin: float) -> Relevance:
    if low > margin or high < -margin:
        return Relevance.BEYOND
    return Relevance.WITHIN if -margin <= low and high <= margin else Relevance.UNDETERMINED


def _measure_notes(measure: Measure, readings: RowReadings) -> list[Note]:
    notes = [say.unread(readings.unread, measure)] if readings.unread else []
    return [*notes, say.at_floor(readings.at_floor)] if readings.at_floor else notes


def _rounded(blocks: float, had: int, family: Family) -> float:
    """Return the blocks for a new record, two digits of them; NaN where it had as many, or nobody would run them."""
    if not math.isfinite(blocks) or blocks > _MOST_BLOCKS:
        return math.nan
    step = 10 ** max(0, math.floor(math.log10(max(1.0, blocks))) - 1)
    rounded = float(max(blocks_needed(family.size, family.alpha), math.ceil(blocks / step) * step))
    return rounded if rounded > had else math.nan


def _exp(value: float) -> float:
    """Return e to the value, also at the infinities."""
    return math.inf if value > 700 else math.exp(value)
