"""What a decision consists of."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from functools import cached_property
from typing import NamedTuple

from bystander.design import AccountTold, Comparison, Given, Measure, RecordHead
from bystander.stats import Looks
from bystander.verdicts.ceilings import CeilingRow
from bystander.verdicts.described.blocks import BlockSeries
from bystander.verdicts.described.failures import Failure
from bystander.verdicts.described.over_time import TrialsToSee
from bystander.verdicts.described.single import Single
from bystander.verdicts.repeated import Repeated
from bystander.verdicts.settled import ACCEPTED_NOTE, SettledRow
from bystander.verdicts.wholes import Whole
from bystander.verdicts.words import Order, Pairing, Relevance, Scale, StopReason, Verdict

__all__ = ["ArmSide", "Decision", "Distribution", "GateAsk", "Note", "Row", "Shift", "Stop"]


@dataclass(frozen=True)
class Note:
    """A remark on a row: a code for programs, a sentence for people."""

    code: str
    text: str


@dataclass(frozen=True)
class ArmSide:
    """One arm in a row: trials, how many of them failed, and of the others the median, the least and the greatest.

    NaN for none. Least and greatest are what people quote; nothing is tested on them.
    """

    trials: int
    failed: int
    median: float
    least: float = math.nan
    greatest: float = math.nan


@dataclass(frozen=True)
class Stop:
    """Where a row stopped.

    Attributes
    ----------
    look : int or None
        Position among the looks; None before the first.
    blocks : int
        So many blocks count.
    reason : StopReason
    """

    look: int | None
    blocks: int
    reason: StopReason

    @property
    def final(self) -> bool:
        """Whether the row needs no more blocks."""
        return StopReason(self.reason).final


_USUAL = Comparison(0, 1)


class Row(NamedTuple):
    """One workload under both arms of a comparison, for one measure.

    Attributes
    ----------
    primary : bool
        Whether the measure is the one that the study decides on.
    pairing : Pairing
    blocks : int
        Blocks in which both arms have a trial, up to the look that decided the row; 0 without pairing.
    blocks_run : int
        The same with those that came after: another row of its workload, or a placebo or floor, went on.
    scale : Scale
    estimate, low, high : float
        On that scale: pseudo-median and ends of the interval; NaN and infinities where unbounded.
    confidence : float
        Level of the interval.
    margin : float
        The margin on that scale: a share for ratios, an amount for differences.
    p, p_adjusted, e, e_adjusted : float
        Over all looks, not of the last one alone; NaN where there was nothing to test.
    smallest_shown : float
        The smallest change that this row's scatter could have shown, on the row's scale as an increase
        (a share for ratios); NaN where it does not apply.
    blocks_for_this : int
        Blocks in which a row that looks changed by itself would usually be shown among all; 0 for other rows.
    blocks_for_margin, seconds_for_margin : float
        Of an unclear row, and of CPU time: the most blocks of a new record that shows a change of the margin in 8 of
        10 cases, and what they take; NaN where it does not apply or is not known.
    relevance : Relevance
    comparison : Comparison
        Which arms are held against each other; `against` and `arm` are their names.
    worse_bound : float or None
        One-sided bound on the row's scale, on the worse side of the measure, at risk / m of the gate's family; None
        without a gate, NaN where nothing was tested.
    """

    workload: str
    arm: str
    measure: Measure
    primary: bool
    pairing: Pairing
    blocks: int
    reference: ArmSide
    candidate: ArmSide
    scale: Scale
    estimate: float
    low: float
    high: float
    confidence: float
    margin: float
    p: float
    p_adjusted: float
    e: float
    e_adjusted: float
    smallest_shown: float
    verdict: Verdict
    relevance: Relevance
    weight: float | None = None
    notes: tuple[Note, ...] = ()
    stop: Stop = Stop(0, 0, StopReason.FIXED)
    blocks_for_margin: float = math.nan
    seconds_for_margin: float = math.nan
    worse_bound: float | None = None
    blocks_run: int = 0
    comparison: Comparison = _USUAL
    against: str = ""
    blocks_for_this: int = 0

    @property
    def key(self) -> tuple[str, Comparison]:
        """What tells it apart from the other rows of its measure."""
        return self.workload, self.comparison

    @property
    def changed(self) -> bool:
        """Whether a change is shown."""
        return self.verdict in self.measure.words

    @property
    def looked_at(self) -> bool:
        """Whether it reached a look; before the first nothing that tells who is ahead is shown."""
        return self.stop.look is not None

    @property
    def accepted(self) -> bool:
        """Whether somebody accepted its change, and that holds."""
        return self.has(ACCEPTED_NOTE)

    def has(self, code: str) -> bool:
        """Whether a note with that code stands on the row."""
        return any(note.code == code for note in self.notes)


@dataclass(frozen=True)
class GateAsk:
    """What a gate is asked.

    Attributes
    ----------
    words : tuple of str
        Among `design.GATE_WORDS`.
    measures : tuple of str
        On which they are looked for; empty for the study's measure.
    also_unrandomised : bool
        Count also rows whose trials are not known to be in random order.
    also_dependent : bool
        Count also ceilings whose trials depend on each other in time.
    """

    words: tuple[str, ...]
    measures: tuple[str, ...] = ()
    also_unrandomised: bool = False
    also_dependent: bool = False


@dataclass(frozen=True)
class Shift:
    """One quantile of the candidate over that of the reference.

    Attributes
    ----------
    share : float
        The share of trials below it.
    ratio, low, high : float
        With the interval at 95 %, for this quantile alone; an end may be 0 or infinite.
    needed : int
        Trials that each arm must have for a bounded interval; 0 where both have them.
    """

    share: float
    ratio: float
    low: float
    high: float
    needed: int


@dataclass(frozen=True)
class Distribution:
    """All shifts of one row of the study's measure, and where an arm runs at two speeds.

    Attributes
    ----------
    arm, against : str
        The candidate and the reference.
    two : tuple
        (arm, faster speed, slower speed, share of the slower one), in the measure's unit.
    spread : pair of float
        Of the reference and the candidate: 1.4826 median absolute deviations over the median (Hampel 1974).
    slow : tuple of (int, int), or None
        Of both arms: how many trials took longer than the reference's 90th percentile, and of how many; None where
        either has fewer than 20.
    """

    workload: str
    arm: str
    against: str
    comparison: Comparison
    shifts: tuple[Shift, ...]
    two: tuple[tuple[str, float, float, float], ...]
    spread: tuple[float, float]
    slow: tuple[tuple[int, int], tuple[int, int]] | None


@dataclass(frozen=True)
class Decision:
    """All rows of a record, worst first.

    Attributes
    ----------
    margin, risk, measure
        As used, which is as the study says unless `exploration` tells what was changed.
    comparisons : int
        Compared pairs of the stored plan: the family of the primary rows.
    exploration : tuple of str
        What was chosen after the readings were seen; empty for the study's own decision.
    singles : tuple of Single
        Every workload under every arm by itself, in the study's order.
    failures : tuple of Failure
        Where trials failed, and how.
    placebo : tuple of Row
        The placebo against the reference, in the study's order; "unclear" where it shows nothing.
    to_see : tuple of TrialsToSee
        Trials that can be seen over time, for workloads whose programs told something.
    distributions : tuple of Distribution
        How fast, typical and slow trials moved, for rows of the study's measure.
    looks : Looks
        After how many blocks rows could stop, of the workload with the most; one look where their number is fixed.
    looks_of : tuple of Looks
        The same of each workload.
    given : Given
        What the commands that are told must repeat.
    accounts : mapping
        By row: what its newest inspection of both arms told. No verdict rests on it.
    loads, means : tuple of Whole
        Of each comparison that is shown: the whole load where the study gives weights, and the geometric mean of
        several workloads. Of all workloads, so that there is none where only some are shown.
    ceilings : tuple of CeilingRow
        Every ceiling that is shown, under every arm, the broken first.
    settled : tuple of SettledRow
        What somebody settled of rows that are shown, and how it stands.
    decided_on : date or None
        The day against which that is held.
    order : Order
        In which rows of the study's measure stand.
    series : mapping
        By row of the study's measure: its blocks, where it is compared by them and reached a look.
    answers : mapping
        By row: where answers first part, a line each; empty where nobody kept that.
    repeated : Repeated or None
        How it stands among all that its archive tested; None where few were, or nothing is shown.
    queued : tuple of str
        Of one state: which workloads waited for a processor for much of their time, a sentence each.
    """

    head: RecordHead
    measure: Measure
    margin: float
    risk: float
    comparisons: int
    rows: tuple[Row, ...]
    singles: tuple[Single, ...]
    looks: Looks
    looks_of: tuple[Looks, ...]
    exploration: tuple[str, ...] = ()
    failures: tuple[Failure, ...] = ()
    placebo: tuple[Row, ...] = ()
    notes: tuple[Note, ...] = field(default=())
    to_see: tuple[TrialsToSee, ...] = ()
    distributions: tuple[Distribution, ...] = ()
    given: Given = field(default_factory=Given)
    accounts: Mapping[tuple[str, Comparison], AccountTold] = field(default_factory=dict)
    loads: tuple[Whole, ...] = ()
    means: tuple[Whole, ...] = ()
    order: Order = Order.WORST
    ceilings: tuple[CeilingRow, ...] = ()
    settled: tuple[SettledRow, ...] = ()
    decided_on: date | None = None
    series: Mapping[tuple[str, Comparison], BlockSeries] = field(default_factory=dict)
    answers: Mapping[tuple[str, Comparison], tuple[str, ...]] = field(default_factory=dict)
    repeated: Repeated | None = None
    queued: tuple[str, ...] = ()

    @cached_property
    def primary(self) -> tuple[Row, ...]:
        """The rows of the study's measure."""
        return tuple(row for row in self.rows if row.primary)

    @cached_property
    def secondary(self) -> tuple[Row, ...]:
        """The rows of all other measures."""
        return tuple(row for row in self.rows if not row.primary)

    @property
    def summary(self) -> dict[str, int]:
        """Primary rows by verdict; every verdict is a key."""
        counts = Counter(row.verdict for row in self.primary)
        return {str(verdict): counts[verdict] for verdict in Verdict}

    @property
    def candidates(self) -> Sequence[str]:
        """Names of the arms that are held against another one."""
        study = self.head.study
        return list(dict.fromkeys(study.arms[one.candidate].name for one in study.comparisons))

    @property
    def several(self) -> bool:
        """Whether a workload has more than one row of a measure, so that its name alone does not tell them apart."""
        return len(self.head.study.comparisons) > 1

    def name_of(self, row: Row | Distribution) -> str:
        """Return what a row is called: its workload, and where there are several the arms that are compared."""
        if not self.several:
            return row.workload
        usual = row.against in ("", self.head.study.reference.name)
        return f"{row.workload} · {row.arm}" + ("" if usual else f" against {row.against}")

    @property
    def looks_differ(self) -> bool:
        """Whether workloads have different numbers of blocks, so that each has looks of its own."""
        return len(set(self.looks_of)) > 1

    @property
    def look_levels(self) -> list[float]:
        """The nominal two-sided level of each look, when the risk of one comparison is spent over all."""
        return self.looks.levels(self.risk / self.head.study.sharing)

    def planned_levels(self, workload: int | None = None) -> list[tuple[int, float, float]]:
        """Return blocks and nominal levels of the looks at a workload: of a change, and of being the same.

        Parameters
        ----------
        workload : int, optional
            Its position; without one, that with the most blocks.
        """
        looks = self.looks if workload is None else self.looks_of[workload]
        risk = self.risk / self.head.study.sharing
        columns = zip(looks.blocks, looks.levels(risk), looks.levels(2 * risk), strict=True)
        return [(blocks, level, twice / 2) for blocks, level, twice in columns]

    @property
    def tainted(self) -> bool:
        """Whether the placebo is shown to differ from the reference."""
        return any(note.code == "placebo-tainted" for note in self.notes)
