"""When each row has been decided: the study's stopping rule, replayed from the readings alone.

The observation calls this after each look to know who goes on; a decision calls it to know which blocks count.
So both are of one mind, and nobody has to believe what was noted down.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from bystander.design import Comparison, Record, StoppingRule, Study
from bystander.stats import Looks, estimates, fails_more_p, fixed_look, p_and_e, planned_looks
from bystander.verdicts.compared.compared import ComparedRecord, main_measure
from bystander.verdicts.compared.row_readings import paired_batches, row_readings
from bystander.verdicts.compared.row_trials import RowTrials, first_blocks
from bystander.verdicts.tested.ceilings import CeilingTest, ceiling_tests
from bystander.verdicts.types import Stop
from bystander.verdicts.words import Scale, StopReason

__all__ = ["PLACEBO_RISK", "Stopping", "fails_more", "looks_for", "stopping", "study_looks"]

Floats = NDArray[np.float64]

PLACEBO_RISK = 0.01  # that the placebo of a record is called changed by luck, over all its rows


@dataclass(frozen=True)
class Stopping:
    """The looks of a record, and where each of its rows stopped.

    Attributes
    ----------
    looks : tuple of Looks
        Of each workload; one look where the number of blocks is fixed.
    stops : mapping
        By workload and comparison; empty where the number of blocks is fixed.
    ceilings : tuple of CeilingTest
        Every ceiling of the study under every arm.
    by_looks : bool
        Whether workloads could end before their last block.
    """

    looks: tuple[Looks, ...]
    stops: Mapping[tuple[int, Comparison], Stop]
    ceilings: tuple[CeilingTest, ...] = ()
    by_looks: bool = False

    def of(self, pair: RowTrials) -> Stop:
        """Return where a row stopped; the placebo's, where the last row of its workload did."""
        if found := self.stops.get((pair.workload, pair.comparison)):
            return found
        blocks = pair.reference.size if pair.paired else 0
        others = [stop for (workload, _), stop in self.stops.items() if workload == pair.workload]
        return max(others, key=lambda stop: stop.blocks, default=Stop(0, blocks, StopReason.FIXED))

    def counting(self, record: Record) -> NDArray[np.bool_]:
        """Return which trials are spoken of, shape (n,): in an unfinished record, those up to the last look."""
        trials = record.trials
        if record.head.complete or not self.by_looks:
            return np.ones(len(trials), dtype=bool)
        blocks = np.zeros(len(record.head.study.workloads), dtype=np.int64)
        for (workload, _), stop in self.stops.items():
            blocks[workload] = max(blocks[workload], stop.blocks)
        for test in self.ceilings:
            reached = 0 if test.look is None else self.looks[test.workload].blocks[test.look]
            blocks[test.workload] = max(blocks[test.workload], reached)
        return np.asarray(trials.block < blocks[trials.workload])

    def open_workloads(self, study: Study) -> set[int]:
        """Return the workloads that go on: an undecided one, and one that serves as the floor of such a one.

        One of which nothing can be decided, as there is one arm and no ceiling, goes on to its last block.
        """
        live = {workload for (workload, _), stop in self.stops.items() if not stop.final}
        live |= {test.workload for test in self.ceilings if not test.final}
        asked = {workload for workload, _ in self.stops} | {test.workload for test in self.ceilings}
        live |= set(range(len(study.workloads))) - asked
        names = {workload.name: w for w, workload in enumerate(study.workloads)}
        return live | {names[study.workloads[w].floor] for w in live if study.workloads[w].floor in names}


def study_looks(study: Study) -> tuple[Looks, ...]:
    """Return the looks that a study plans for each workload."""
    return tuple(looks_for(study, blocks) for blocks in study.planned_blocks)


def looks_for(study: Study, blocks: int) -> Looks:
    """Return the looks of so many blocks: none at which nothing could stop, or the placebo not be shown to differ.

    A workload that is decided takes its placebo with it, and one that never could have spoken vouches for nothing.
    """
    if not study.stops_early:
        return fixed_look(blocks)
    risk = study.risk / max(1, study.tests)
    if study.control is not None:
        risk = min(risk, PLACEBO_RISK / len(study.workloads))
    return planned_looks(blocks, risk, strict=study.stopping == StoppingRule.STRICT)


def stopping(record: Record | ComparedRecord) -> Stopping:
    """Return where each row of a record stopped, by the study's own measure, margin and risk.

    A row stops at the first look at which it is shown to be the same, to have changed by an estimate beyond the
    margin, or to fail more often, each at risk / tests, so that no other row, nor a gate, can take that back.
    """
    compared = record if isinstance(record, ComparedRecord) else ComparedRecord(record)
    record = compared.record
    study = record.head.study
    if not study.stops_early or (record.trials.block < 0).any():
        fixed = tuple(map(fixed_look, study.planned_blocks))
        return Stopping(fixed, {}, ceiling_tests(compared, fixed))
    looks = study_looks(study)
    stops: dict[tuple[int, Comparison], Stop] = {}
    for comparison in study.comparisons:
        found = _stops(compared, comparison, looks)
        stops |= {(workload, comparison): stop for workload, stop in enumerate(found)}
    return Stopping(looks, stops, ceiling_tests(compared, looks), by_looks=True)


def _stops(compared: ComparedRecord, comparison: Comparison, looks: Sequence[Looks]) -> list[Stop]:
    pairs = compared.rows(comparison)
    whole, plans = [_whole_blocks(compared.record, pair) for pair in pairs], [looks[pair.workload] for pair in pairs]
    stops: list[Stop | None] = [None] * len(whole)
    rows = _RowsAtLooks(compared, comparison)
    for plan in dict.fromkeys(plans):
        mine = [i for i, other in enumerate(plans) if other == plan]
        for look, blocks in enumerate(plan.blocks):
            waiting = [i for i in mine if stops[i] is None and whole[i] >= blocks]
            for i, reason in zip(waiting, rows.reasons(waiting, plan, look), strict=True):
                stops[i] = Stop(look, blocks, reason) if reason else None
    return [stop or _unfinished(plan, reached) for stop, plan, reached in zip(stops, plans, whole, strict=True)]


def _whole_blocks(record: Record, pair: RowTrials) -> int:
    """Return how many blocks from the first on are whole."""
    blocks = record.trials.block[pair.reference]
    missing = np.flatnonzero(blocks != np.arange(blocks.size))
    return int(missing[0]) if missing.size else int(blocks.size)


def _unfinished(looks: Looks, reached: int) -> Stop:
    look = looks.last_within(reached)
    if look is None:
        return Stop(None, 0, StopReason.BEFORE_FIRST_LOOK)
    return Stop(look, looks.blocks[look], StopReason.UNFINISHED)


class _RowsAtLooks:
    """The rows of one comparison by the study's measure, as they are seen at each look."""

    def __init__(self, compared: ComparedRecord, comparison: Comparison) -> None:
        self._record = record = compared.record
        self._pairs, study = compared.rows(comparison), record.head.study
        self._readings = compared.readings(main_measure(record), comparison)
        self._rows = row_readings(record.trials, self._pairs, self._readings, study.margin)
        self._differences = [row.differences for row in self._rows]
        self._failing = [bool(record.trials.failed[pair.both].any()) for pair in self._pairs]
        self._alpha = study.risk / len(study.comparisons)
        self._share = study.planned_rows / study.tests  # a gate on several measures holds its risk over all of them

    def reasons(self, places: Sequence[int], looks: Looks, look: int) -> list[StopReason | None]:
        """Return why each of these rows, all of one plan, stops at a look of it, None where it goes on."""
        alpha, each = self._alpha, self._alpha * self._share / len(self._pairs)
        one_each, two_each, two_alpha = _levels(looks, look, each, alpha)
        blocks, last = looks.blocks[look], look == len(looks.blocks) - 1
        reasons: list[StopReason | None] = [StopReason.MOST_BLOCKS if last else None] * len(places)
        seen = [self._seen(i, blocks) for i in places]
        margin = np.array([row_margin for _, row_margin in seen])
        for batch in paired_batches([difference for difference, _ in seen]):
            p, e = p_and_e(batch.contrasts, margin[batch.rows])
            # A row shown to be the same by itself does not ask to be a change as well.
            changed = (p <= one_each) & (e > two_alpha / 2)
            if changed.any():
                changed &= ~(np.abs(estimates(batch.contrasts)) <= margin[batch.rows])
            for k, same, differs in zip(batch.rows.tolist(), e <= two_each / 2, changed, strict=True):
                reasons[k] = StopReason.SAME if same else StopReason.CHANGED if differs else reasons[k]
        for k, i in enumerate(places):
            if self._failing[i] and self._fails_more(i, blocks) <= two_each / 2:
                reasons[k] = StopReason.FAILS_MORE
        return reasons

    def _seen(self, i: int, blocks: int) -> tuple[tuple[Floats, Floats], float]:
        """Return a row's differences in its first blocks, and its margin.

        On a scale of ratios they are the first of all; else scale and margin are those of what was read by then.
        """
        row = self._rows[i]
        if row.scale != Scale.RATIO:
            early = first_blocks(self._record.trials, self._pairs[i], blocks)
            (row,) = row_readings(self._record.trials, [early], self._readings, self._record.head.study.margin)
            return row.differences, row.margin
        low, high = self._differences[i]
        count = int(np.searchsorted(row.blocks, blocks))
        return (low[:count], high[:count]), row.margin

    def _fails_more(self, i: int, blocks: int) -> float:
        return fails_more(self._record, first_blocks(self._record.trials, self._pairs[i], blocks))


@lru_cache(maxsize=256)
def _levels(looks: Looks, look: int, each: float, alpha: float) -> tuple[float, float, float]:
    """Return the nominal levels of a look at one row's risk, and at twice one row's and twice the family's."""
    one, two, family = looks.nominal(look, np.array([each, 2 * each, 2 * alpha])).tolist()
    return one, two, family


def fails_more(record: Record, pair: RowTrials) -> float:
    """Return the exact one-sided p that the candidate of a row in blocks fails more often."""
    reference = record.trials.failed[pair.reference]
    candidate = record.trials.failed[pair.candidate]
    only_candidate = int(np.count_nonzero(candidate & ~reference))
    return fails_more_p(only_candidate, int(np.count_nonzero(reference & ~candidate)))
