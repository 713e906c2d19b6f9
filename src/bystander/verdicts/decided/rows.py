"""One row: its verdict by the table, and everything that is said of it."""

from __future__ import annotations

import math
from collections.abc import Container, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from bystander.design import Comparison, Measure, Record
from bystander.stats import blocks_needed, blocks_to_reach
from bystander.verdicts.compared.compared import ComparedRecord
from bystander.verdicts.compared.row_readings import RowReadings
from bystander.verdicts.compared.row_trials import RowTrials, block_seconds
from bystander.verdicts.decided.rules import Outcome, RowFacts, control_outcome, outcome
from bystander.verdicts.noted import notes as say
from bystander.verdicts.noted.marks import marks_notes, start_notes
from bystander.verdicts.noted.soundness import soundness_notes
from bystander.verdicts.tested.families import CountingRows, counting_rows, family_intervals, family_of, tested
from bystander.verdicts.tested.family import OTHER_TIME, Family, FamilyRows, IntervalRow, Tested, joined_rows
from bystander.verdicts.tested.stopping import Stopping
from bystander.verdicts.types import ArmSide, Note, Row
from bystander.verdicts.words import Relevance, Scale, Verdict

__all__ = ["ComparisonRows"]

_MOST_BLOCKS = 10_000  # nobody runs a record of more
_MOST_EXPONENT = 700.0  # e to more than that is no float
_FARTHEST = 50.0  # a logarithm of a ratio beyond which it is no number to show
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
    notes : tuple of Note
    """

    failed: tuple[int, int]
    silent: str | None
    notes: tuple[Note, ...]


@dataclass(frozen=True)
class ComparisonRows:
    """Makes the rows of comparisons that are adjusted together, a family of measures at a time.

    Attributes
    ----------
    margin : float
        As a share.
    """

    compared: ComparedRecord
    comparisons: Sequence[Comparison]
    margin: float
    stopped: Stopping
    _kept: dict[str, FamilyRows] = field(default_factory=dict)

    def of(
        self, measures: Sequence[Measure], family: Family, chosen: Container[tuple[int, Comparison]] | None = None
    ) -> list[Row]:
        """Return the rows of a family with their verdicts and intervals.

        Parameters
        ----------
        chosen : container, optional
            The rows that belong to it, by workload and comparison; all by default.
        """
        record = self.compared.record
        members = self.members(measures)
        if chosen is not None:
            members = members.only([i for i, pair in enumerate(members.pairs) if pair.key in chosen])
        if not family.primary:  # what only some programs tell of themselves counts only where it is told
            members = members.only([i for i, row in enumerate(members.readings) if row.testable])
            size = max(1, len(members.pairs))
            family = replace(family, size=size, strict=family.alpha / size)
        maker = _RowMaker(self, members, tested(record, members, family), family)
        places = range(len(members.pairs))
        outcomes = [maker.judged(i) for i in places]
        ends = family_intervals(members, maker.tested, np.array([one.error for one in outcomes]), family)
        sound: list[list[Note]] = [[]] * len(outcomes)
        if family.answers:
            sound = soundness_notes(record, members.pairs, members.readings)
        return [maker.finished(i, outcomes[i], ends.rows[i], sound[i]) for i in places]

    def members(self, measures: Sequence[Measure]) -> FamilyRows:
        """Return the rows of the comparisons for some measures; those of one measure are kept."""
        if len(measures) != 1:
            return self._members(measures)
        (measure,) = measures
        if measure.name not in self._kept:
            self._kept[measure.name] = self._members(measures)
        return self._kept[measure.name]

    def _members(self, measures: Sequence[Measure]) -> FamilyRows:
        return joined_rows([family_of(self.compared, one, measures, self.margin) for one in self._counting])

    @cached_property
    def _counting(self) -> list[CountingRows]:
        return [counting_rows(self.compared, one, self.stopped) for one in self.comparisons]

    @cached_property
    def _pairs(self) -> list[RowTrials]:
        return [pair for one in self._counting for pair in one.pairs]

    @cached_property
    def facts(self) -> dict[tuple[int, Comparison], _WorkloadFacts]:
        """What holds for all measures, by workload and comparison."""
        return {pair.key: _workload_facts(self.compared.record, pair) for pair in self._pairs}

    @cached_property
    def told_notes(self) -> dict[tuple[int, Comparison], list[Note]]:
        """What programs told of themselves, and what their starts were, by workload and comparison."""
        record = self.compared.record
        return {pair.key: [*marks_notes(record, pair), *start_notes(record, pair)] for pair in self._pairs}


@dataclass(frozen=True)
class _RowMaker:
    """Makes the rows of a family, in two steps: the levels of intervals depend on all verdicts."""

    of: ComparisonRows
    rows: FamilyRows
    tested: Tested
    family: Family

    def judged(self, i: int) -> Outcome:
        """Return the verdict of a row, and the level of the interval that goes with it."""
        family, rows, seen = self.family, self.rows, self.tested.rows[i]
        pair, readings = rows.pairs[i], rows.readings[i]
        reference, candidate = self._sides[i]
        return (control_outcome if family.control else outcome)(
            RowFacts(
                reference=reference,
                candidate=candidate,
                silent_arm=self.of.facts[pair.key].silent,
                apart=0 if pair.reference.size else pair.apart,
                read=readings.testable,
                first_look=rows.looks.rows[i].blocks[0] if rows.stops[i].look is None else None,
                fails_more=seen.fails_more,
                p=seen.p,
                e=seen.e,
                p_adjusted=seen.p_adjusted,
                e_adjusted=seen.e_adjusted,
                leans=seen.leans,
                blocks=readings.size if readings.paired else None,
                attainable=seen.attainable,
                alpha=family.alpha,
                size=family.size,
                accepted=self.tested.accepted,
                accepted_same=self.tested.accepted_same,
                words=rows.measures[i].words,
                small=family.small,
            )
        )

    def finished(self, i: int, found: Outcome, ends: IntervalRow, sound: Sequence[Note]) -> Row:
        """Return a row whole, on the scale on which it is shown.

        Parameters
        ----------
        sound : sequence of Note
            What could have fooled it.
        """
        record, rows, seen = self.of.compared.record, self.rows, self.tested.rows[i]
        pair, measure, readings = rows.pairs[i], rows.measures[i], rows.readings[i]
        ratio, (reference, candidate) = readings.scale == Scale.RATIO, self._sides[i]
        relevance, smallest = _relevance(ends.low, ends.high, readings.margin), _smallest(ends.reach, ratio)
        study, blocks = record.head.study, self._blocks_for_margin(i, found.verdict, ends.needed)
        seconds = blocks * block_seconds(record, pair) if math.isfinite(blocks) else math.nan
        ceiling = bool(study.workloads[pair.workload].ceilings)
        after = [say.decided_earlier(readings.size, rows.run[i], ceiling)] if self._earlier(i) else []
        after += [say.with_smallest(found.note, measure, ratio, smallest)] if found.note else []
        if found.verdict in measure.words:
            after.append(_RELEVANCE_NOTES[relevance])
        if seen.reference_fails <= self.family.alpha and found.verdict != Verdict.FAILED:
            after.append(say.reference_fails_more(reference, candidate, seen.reference_fails))
        settling = self._blocks_for_this(i, found)
        if settling and self.family.primary:
            fewest, took = blocks_needed(self.family.size, self.family.alpha), settling * block_seconds(record, pair)
            after.append(say.one_of_many(self.family.size, fewest, settling, took))
        elif math.isfinite(blocks) and self.family.primary:
            after.append(say.needs_blocks(blocks, seconds, self.of.margin))
        before = [*self.of.facts[pair.key].notes, *_measure_notes(measure, readings)]
        before += self.of.told_notes[pair.key] if self.family.answers else []
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
            estimate=_exp(seen.estimate, math.exp(_MOST_EXPONENT)) if ratio else seen.estimate,
            low=_exp(ends.low) if ratio else ends.low,
            high=_exp(ends.high) if ratio else ends.high,
            confidence=1 - found.error,
            margin=math.expm1(readings.margin) if ratio else readings.margin,
            p=seen.p,
            p_adjusted=self._over_comparisons(seen.p, seen.p_adjusted),
            e=seen.e,
            e_adjusted=self._over_comparisons(seen.e, seen.e_adjusted),
            smallest_shown=smallest,
            verdict=found.verdict,
            relevance=relevance,
            weight=study.workloads[pair.workload].weight,
            notes=(*before, *after, *sound),
            stop=rows.stops[i],
            blocks_for_margin=blocks,
            seconds_for_margin=seconds,
            blocks_for_this=settling,
            worse_bound=None if math.isnan(self.family.bound) else _exp(ends.worse) if ratio else ends.worse,
            comparison=pair.comparison,
            against=study.arms[pair.comparison.reference].name,
        )

    def _earlier(self, i: int) -> bool:
        """Whether a row of the study's measure was decided before its workload ended."""
        stop = self.rows.stops[i]
        return self.family.answers and stop.final and stop.look is not None and self.rows.run[i] > stop.blocks > 0

    def _blocks_for_this(self, i: int, found: Outcome) -> int:
        """Return the blocks in which a row that looks changed by itself would be shown among all; 0 for other rows."""
        readings, seen = self.rows.readings[i], self.tested.rows[i]
        if not found.note or found.note.code != "change-not-after-adjustment" or not readings.paired or seen.p <= 0:
            return 0
        return blocks_to_reach(seen.p, readings.size, self.family.alpha / self.family.size)

    def _blocks_for_margin(self, i: int, verdict: Verdict, needed: float) -> float:
        """Return the blocks that would show the margin, where that is to be said."""
        if verdict == Verdict.UNCLEAR and self.family.primary:
            return _rounded(needed, self.rows.readings[i].size, self.family)
        if self.rows.measures[i].name == OTHER_TIME and not self.family.primary:
            return _rounded(needed, 0, self.family)
        return math.nan

    def _over_comparisons(self, raw: float, adjusted: float) -> float:
        """Return what was adjusted over a family as adjusted over all that share the study's risk."""
        return raw if math.isnan(raw) else min(1.0, adjusted * self.family.sharing)

    @cached_property
    def _sides(self) -> list[tuple[ArmSide, ArmSide]]:
        """Both arms of each row; without medians before its first look."""
        found = []
        for pair, readings, stop in zip(self.rows.pairs, self.rows.readings, self.rows.stops, strict=True):
            seen = stop.look is not None
            medians = readings.medians if seen else (math.nan, math.nan)
            ends = readings.ends if seen else ((math.nan, math.nan), (math.nan, math.nan))
            failed = self.of.facts[pair.key].failed
            found.append(
                (
                    ArmSide(int(pair.reference.size), failed[0], medians[0], *ends[0]),
                    ArmSide(int(pair.candidate.size), failed[1], medians[1], *ends[1]),
                )
            )
        return found


def _smallest(reach: float, ratio: bool) -> float:
    """Return the smallest change that could have been shown, as an increase on the shown scale; NaN without an end."""
    if not math.isfinite(reach):
        return math.nan
    return math.expm1(reach) if ratio and reach < _FARTHEST else reach


def _workload_facts(record: Record, pair: RowTrials) -> _WorkloadFacts:
    study, sides = record.head.study, (pair.reference, pair.candidate)
    failed = tuple(int(np.count_nonzero(record.trials.failed[side])) for side in sides)
    silent = [study.arms[a].name for a, side in zip(pair.comparison.arms, sides, strict=True) if not side.size]
    some = any(0 < count < side.size for count, side in zip(failed, sides, strict=True))
    notes: list[Note | None] = [
        say.answers(record, pair) if study.workloads[pair.workload].answer else None,
        say.failures_kept((failed[0], failed[1])) if some else None,
        say.unrandomised(record, pair),
        say.left_out(pair.alone) if pair.alone else None,
        say.blocks_apart(pair.apart) if pair.apart and pair.reference.size else None,
    ]
    known = tuple(note for note in notes if note is not None)
    return _WorkloadFacts((failed[0], failed[1]), silent[0] if silent else None, known)


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


def _exp(value: float, beyond: float = math.inf) -> float:
    """Return e to the value, also at the infinities; where that is no float, what is given."""
    return beyond if value > _MOST_EXPONENT else math.exp(value)
