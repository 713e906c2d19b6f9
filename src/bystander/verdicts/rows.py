"""One row: its verdict by the table, and everything that is said of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bystander.design import Measure, Record
from bystander.stats import blocks_needed
from bystander.verdicts import notes as say
from bystander.verdicts.members import OTHER_TIME, Family, Members, Spans, Tested
from bystander.verdicts.pairs import Material, RowTrials, block_seconds
from bystander.verdicts.rules import Case, Outcome, outcome, placebo_outcome
from bystander.verdicts.told import start_notes, told_notes
from bystander.verdicts.types import ArmSide, Note, Row

__all__ = ["Rows"]

_MOST_BLOCKS = 10_000  # nobody runs a record of more
_RELEVANCE_NOTES = {
    "beyond": say.beyond_margin(),
    "within": say.within_margin(),
    "undetermined": say.margin_undetermined(),
}


@dataclass(frozen=True)
class _PairFacts:
    """What holds for a workload under a candidate whatever the measure.

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


@dataclass(frozen=True)
class Rows:
    """Makes the rows of a family, in two steps: the levels of intervals depend on all verdicts.

    Attributes
    ----------
    margin : float
        As a share.
    """

    record: Record
    members: Members
    tested: Tested
    family: Family
    margin: float

    def judged(self, i: int) -> Outcome:
        """Return the verdict of a row, and the level of the interval that goes with it."""
        family, members, tested = self.family, self.members, self.tested
        pair, stuff = members.pairs[i], members.materials[i]
        reference, candidate = self._sides[i]
        return (placebo_outcome if family.placebo else outcome)(
            Case(
                reference=reference,
                candidate=candidate,
                silent_arm=self._facts[pair.workload].silent,
                apart=0 if pair.reference.size else pair.apart,
                read=stuff.testable,
                first_look=members.looks.blocks[0] if members.stops[i].look is None else None,
                fails_more=float(tested.fails_more[i]),
                p=float(tested.p[i]),
                q=float(tested.q[i]),
                e=float(tested.e[i]),
                q_e=float(tested.q_e[i]),
                leans=int(tested.leans[i]),
                blocks=stuff.size if stuff.paired else None,
                attainable=bool(tested.attainable[i]),
                alpha=family.alpha,
                size=family.size,
                accepted=tested.accepted,
                accepted_same=tested.accepted_same,
                words=members.measures[i].words,
            )
        )

    def finished(self, i: int, found: Outcome, spans: Spans, sound: Sequence[Note]) -> Row:
        """Return a row whole, on the scale on which it is shown.

        Parameters
        ----------
        sound : sequence of Note
            What could have fooled it.
        """
        study, members, tested = self.record.head.study, self.members, self.tested
        pair, measure, stuff = members.pairs[i], members.measures[i], members.materials[i]
        low, high, reach = float(spans.low[i]), float(spans.high[i]), float(spans.reach[i])
        ratio, p, e = stuff.scale == "ratio", float(tested.p[i]), float(tested.e[i])
        estimate, facts = float(tested.estimate[i]), self._facts[pair.workload]
        relevance = _relevance(low, high, stuff.margin)
        smallest = math.expm1(reach) if ratio and math.isfinite(reach) and reach < 50 else reach
        smallest = smallest if math.isfinite(smallest) else math.nan
        blocks = math.nan
        if found.verdict == "unclear" and self.family.primary:
            blocks = _rounded(float(spans.needed[i]), stuff.size, self.family)
        elif measure.name == OTHER_TIME and not self.family.primary:
            blocks = _rounded(float(spans.needed[i]), 0, self.family)
        seconds = blocks * block_seconds(self.record, pair) if math.isfinite(blocks) else math.nan
        worse = float(spans.worse[i])
        told = [say.decided_earlier(stuff.size, members.run[i])] if self._earlier(i) else []
        told += [say.with_smallest(found.note, measure, ratio, smallest)] if found.note else []
        if found.verdict in measure.words:
            told.append(_RELEVANCE_NOTES[relevance])
        if float(tested.reference_fails[i]) <= self.family.alpha and found.verdict != "failed":
            told.append(say.reference_fails_more(*self._sides[i], float(tested.reference_fails[i])))
        if math.isfinite(blocks) and self.family.primary:
            told.append(say.needs_blocks(blocks, seconds, self.margin))
        reference, candidate = self._sides[i]
        return Row(
            workload=study.workloads[pair.workload].name,
            arm=study.arms[pair.arm].name,
            measure=measure,
            primary=self.family.primary,
            pairing="blocks" if pair.paired else "none",
            blocks=stuff.size,
            blocks_run=members.run[i],
            reference=reference,
            candidate=candidate,
            scale=stuff.scale,
            estimate=math.exp(estimate) if ratio else estimate,
            low=_exp(low) if ratio else low,
            high=_exp(high) if ratio else high,
            confidence=1 - found.error,
            margin=math.expm1(stuff.margin) if ratio else stuff.margin,
            p=p,
            p_adjusted=p if math.isnan(p) else min(1.0, float(tested.q[i]) * self.family.candidates),
            e=e,
            e_adjusted=e if math.isnan(e) else min(1.0, float(tested.q_e[i]) * self.family.candidates),
            smallest_shown=smallest,
            verdict=found.verdict,
            relevance=relevance,
            weight=study.workloads[pair.workload].weight,
            notes=(*facts.first, *_measure_notes(measure, stuff), *facts.last, *told, *sound),
            stop=members.stops[i],
            blocks_for_margin=blocks,
            seconds_for_margin=seconds,
            worse_bound=None if math.isnan(self.family.bound) else _exp(worse) if ratio else worse,
        )

    def _earlier(self, i: int) -> bool:
        """Whether a row of the study's measure was decided before its workload ended."""
        stop, main = self.members.stops[i], self.family.primary and not self.family.placebo
        return main and stop.final and stop.look is not None and self.members.run[i] > stop.blocks > 0

    @cached_property
    def _facts(self) -> dict[int, _PairFacts]:
        """What holds for all measures of a pair, by workload."""
        return {pair.workload: _pair_facts(self.record, pair, self.family) for pair in self.members.pairs}

    @cached_property
    def _sides(self) -> list[tuple[ArmSide, ArmSide]]:
        """Both arms of each row; without medians before its first look."""
        found = []
        for pair, stuff, stop in zip(self.members.pairs, self.members.materials, self.members.stops, strict=True):
            medians = (math.nan, math.nan) if stop.look is None else stuff.medians
            failed = self._facts[pair.workload].failed
            found.append(
                (
                    ArmSide(int(pair.reference.size), failed[0], medians[0]),
                    ArmSide(int(pair.candidate.size), failed[1], medians[1]),
                )
            )
        return found


def _pair_facts(record: Record, pair: RowTrials, family: Family) -> _PairFacts:
    study, sides = record.head.study, (pair.reference, pair.candidate)
    failed = tuple(int(np.count_nonzero(record.trials.failed[side])) for side in sides)
    silent = [study.arms[a].name for a, side in zip((0, pair.arm), sides, strict=True) if not side.size]
    some = any(0 < count < side.size for count, side in zip(failed, sides, strict=True))
    first: list[Note | None] = [
        say.answers(record, pair) if study.workloads[pair.workload].answer else None,
        say.failures_kept((failed[0], failed[1])) if some else None,
        say.unrandomised(record, pair),
        say.left_out(pair.alone) if pair.alone else None,
        say.blocks_apart(pair.apart) if pair.apart and pair.reference.size else None,
    ]
    last = [*told_notes(record, pair), *start_notes(record, pair)] if family.primary and not family.placebo else []
    said = tuple(note for note in first if note is not None)
    return _PairFacts((failed[0], failed[1]), silent[0] if silent else None, said, tuple(last))


def _relevance(low: float, high: float, margin: float) -> str:
    if low > margin or high < -margin:
        return "beyond"
    return "within" if -margin <= low and high <= margin else "undetermined"


def _measure_notes(measure: Measure, stuff: Material) -> list[Note]:
    notes = [say.unread(stuff.unread, measure)] if stuff.unread else []
    return [*notes, say.at_floor(stuff.at_floor)] if stuff.at_floor else notes


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
