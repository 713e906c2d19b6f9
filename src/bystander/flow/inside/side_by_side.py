"""Two states of a workload are watched side by side: blocks in random order, until the change is accounted for."""

from __future__ import annotations

import random
import shutil
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from bystander.archive.writer import RecordWriter
from bystander.design import (
    Account,
    PlannedBlock,
    PlannedTrial,
    Status,
    Study,
    TrialOutcome,
    Whose,
    block_conditions,
    block_order,
    workload_key,
)
from bystander.errors import ArchiveError
from bystander.evidence import UNWATCHED_KIND, packed
from bystander.field import FoundWay, Launcher
from bystander.flow.inside.asked import Asked
from bystander.flow.inside.inspection import (
    COUNTED_TRIALS,
    SLOWER,
    USUAL_TICK_NS,
    quick_tick_ns,
    saw_python,
)
from bystander.flow.leads.accounts import LOOKS, MOST_BLOCKS
from bystander.flow.observer import Observer
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.trials.trial import TrialRunner
from bystander.flow.trials.watching import CountedRuns, WatchedRuns
from bystander.units import duration_text, size_text

__all__ = ["Plan", "SideBySide", "Tried"]

_BARE_BLOCKS, _BARE_UP_TO_S = 6, 10.0  # unwatched trials beside watched ones: so many blocks, of trials up to so long
_MOST_FAILED = 3
_BLOCK_S, _MOST_EACH = 0.5, 4  # a block has several short trials of each arm, about so long together
_COUNTS_UP_TO_S = 120.0  # counting of both arms follows by itself where it takes no longer
_BYTES_A_READING = 60  # packed, at most, by what programs of all sizes left
_LEFT_BYTES = 64 * 2**20  # of the disk that must stay free


@dataclass(frozen=True)
class Tried:
    """What a first watched trial of each arm, which is not kept, told.

    Attributes
    ----------
    tick_ns : int
    took_s : pair of float
        Of a watched trial under each arm.
    readings : int
        Of both together.
    python : bool
    failed : str
        How a trial did not end well, "" where both did.
    arm : int
        Under which arm, as a position in the study.
    """

    tick_ns: int
    took_s: tuple[float, float]
    readings: int
    python: bool
    failed: str = ""
    arm: int = 0


@dataclass(frozen=True)
class Plan:
    """How many blocks at most, whether they are looked at before the last, and how many trials of an arm one has."""

    blocks: int = MOST_BLOCKS
    fixed: bool = False
    each: int = 1

    @property
    def looks(self) -> frozenset[int]:
        """After how many blocks is looked."""
        return frozenset() if self.fixed else frozenset(n for n in LOOKS if n < self.blocks)


@dataclass
class SideBySide:
    """The trials of one inspection of two states.

    Attributes
    ----------
    arms : (int, int)
        The reference and the candidate.
    account : callable
        Returns the account of what is kept so far.
    done : set of int
        Numbers of trials that are there already; those of a block follow each other.
    whole : int
        Blocks that are there and went well.
    """

    study: Study
    workload: int
    arms: tuple[int, int]
    trials: TrialRunner
    launcher: Launcher
    interrupts: Interrupts
    way: FoundWay
    asked: Asked
    observer: Observer
    seed: int
    plan: Plan
    account: Callable[[], Account]
    done: frozenset[int] = frozenset()
    bare: dict[int, list[tuple[float, float]]] = field(default_factory=dict)
    whole: int = 0

    def try_once(self) -> Tried:
        """Watch a trial of each arm that is not kept: it is what comes before the first, and says how quick to look."""
        tick_ns = self.way.tick_ns(round((self.asked.tick_s or 0) * 1e9) or USUAL_TICK_NS)
        took, readings, python = [], 0, True
        for arm in self.arms:
            runs, outcome = self._watched(arm, tick_ns, 0)
            if self.interrupts.asked:
                raise KeyboardInterrupt
            if outcome.status is not Status.OK:
                name = self.study.arms[arm].name
                failed = f"{self._name} ends with {outcome.status.text} under {name}"
                return Tried(tick_ns, (0.0, 0.0), 0, False, failed, arm)
            took.append(outcome.took_s)
            watched = runs.watched
            readings += int(watched.at_ns.size) if watched else 0
            python = python and saw_python(watched)
        if self.asked.tick_s is None:
            quick = quick_tick_ns(self.way, min(took))
            readings, tick_ns = round(readings * max(1.0, tick_ns / quick)), quick
        return Tried(tick_ns, (took[0], took[1]), readings, python)

    def plan_each(self, tried: Tried) -> None:
        """Set how many trials of each arm a block has: short ones vary most, and cost little."""
        self.plan = replace(self.plan, each=max(1, min(_MOST_EACH, int(_BLOCK_S / max(tried.took_s)))))

    def expected_s(self, tried: Tried, counting: bool) -> float:
        """Return how long it takes at most, in seconds."""
        bare = _BARE_BLOCKS if self._bare(tried) and not self.done else 0
        pairs = max(0, self.plan.blocks * self.plan.each - len(self.done)) + bare
        return sum(tried.took_s) * pairs + (self.counting_s(tried) if counting else 0.0)

    def check_space(self, tried: Tried, archive: Path) -> None:
        """Raise ArchiveError where the disk has no room for what will be kept."""
        needed = tried.readings * _BYTES_A_READING * (self.plan.blocks * self.plan.each - len(self.done))
        free = shutil.disk_usage(archive.parent).free
        if free < needed + _LEFT_BYTES:
            raise ArchiveError(
                f"the disk of {archive} has {size_text(free)} free, and this inspection may take {size_text(needed)}; "
                'a longer --tick, such as "4 ms", takes less'
            )

    def watch(self, writer: RecordWriter, number: int, tried: Tried) -> None:
        """Run blocks until a look says that the change is accounted for, or the last one ran."""
        names = [self.study.arms[arm].name for arm in self.arms]
        key = workload_key(self.study.workloads[self.workload])
        failed, each = 0, self.plan.each
        self.whole = len(self.done) // each
        if self.done and self._enough(self.whole):
            return
        try:
            for block in range(self.plan.blocks + _MOST_FAILED):
                coming = [n for n in range(block * each, (block + 1) * each) if n not in self.done]
                well = True
                for number_of in coming:
                    order = tuple(self.arms[k] for k in block_order(self.seed, key, number_of, names))
                    beside = not self.done and block < _BARE_BLOCKS and number_of % each == 0 and self._bare(tried)
                    well = self._pair(writer, number_of, order, tried, beside) and well
                    if self.interrupts.asked:
                        return
                if not coming:
                    continue
                self.whole, failed = self.whole + well, failed + (not well)
                left = sum(tried.took_s) * (self.plan.blocks - self.whole) * each
                self.observer.watched(self._name, self.whole, self.plan.blocks, left)
                if failed > _MOST_FAILED:
                    self.observer.remark(
                        f"{self._name}: {failed} blocks had a trial that did not end well; that is enough."
                    )
                    return
                if well and self._enough(self.whole):
                    return
        finally:
            for arm, pairs in sorted(self.bare.items()):
                writer.evidence(
                    Whose(number, self.workload, arm), [packed(UNWATCHED_KIND, pairs, {"pairs": len(pairs)})]
                )

    def _enough(self, blocks: int) -> bool:
        """Whether these are all blocks, or leads are shown at a look and what none explains lies within the margin."""
        if blocks >= self.plan.blocks:
            return True
        if blocks not in self.plan.looks:
            return False
        account = self.account()
        return bool(account.leads) and account.explained_enough

    def _pair(self, writer: RecordWriter, block: int, order: Sequence[int], tried: Tried, beside: bool) -> bool:
        """Run a trial of each arm, watched, perhaps beside an unwatched one; return whether all is well."""
        draw = random.Random(f"{self.seed} {block}")
        planned = PlannedBlock(self.workload, block, tuple(order))
        conditions = self._conditions(block)
        pairs: dict[int, tuple[float, float]] = {}
        well = True
        for position, arm in enumerate(order):
            first = beside and draw.random() < 0.5
            bare = self.trials.run(self.workload, arm, conditions) if first else None
            runs, outcome = self._watched(arm, tried.tick_ns, block)
            if self.interrupts.asked:
                return False
            limit_s = self.study.workloads[self.workload].limit_s
            writer.trial(PlannedTrial(planned, arm, position), runs.told(outcome, block), limit_s, conditions)
            if beside and not bare:
                bare = self.trials.run(self.workload, arm, conditions)
            if self.interrupts.asked and position + 1 < len(order):
                return False
            well = well and outcome.status is Status.OK
            if bare and bare.status is Status.OK and outcome.status is Status.OK:
                pairs[arm] = outcome.took_s, bare.took_s
        if len(pairs) == len(order):
            for arm, pair in pairs.items():
                self.bare.setdefault(arm, []).append(pair)
        return well

    def wants_counts(self, tried: Tried) -> bool:
        """Whether calls are counted; says why not, where it is not plain."""
        if self.asked.counts is not None:
            return self.asked.counts
        if not tried.python:
            return False
        if self.counting_s(tried) > _COUNTS_UP_TO_S:
            self.observer.remark(
                f"Calls are not counted: that makes a trial up to ten times longer, here "
                f"{duration_text(self.counting_s(tried), 2)} in all; --counts counts them all the same."
            )
            return False
        return True

    @staticmethod
    def counting_s(tried: Tried) -> float:
        """How long counting may take."""
        return sum(tried.took_s) * SLOWER * COUNTED_TRIALS

    def count(self, writer: RecordWriter) -> None:
        """Count the calls of both arms, twice each: what does not repeat is no evidence."""
        runs = CountedRuns(self.launcher)
        for block in range(COUNTED_TRIALS):
            planned = PlannedBlock(self.workload, block, self.arms)
            for position, arm in enumerate(self.arms):
                outcome = self.trials.run(self.workload, arm, self._conditions(0), by=runs)
                if self.interrupts.asked:
                    raise KeyboardInterrupt
                limit_s = self.study.workloads[self.workload].limit_s
                told = runs.told(outcome, block)
                writer.trial(PlannedTrial(planned, arm, position), told, limit_s, self._conditions(0))
                if outcome.status is not Status.OK or not (runs.counts and runs.counts.processes):
                    what = outcome.status.text if outcome.status is not Status.OK else "no Python that took the hook in"
                    name = self.study.arms[arm].name
                    self.observer.remark(
                        f"Calls of {self._name} could not be counted: under {name} that trial ended with {what}."
                    )
                    return

    @property
    def _name(self) -> str:
        return self.study.workloads[self.workload].name

    def _bare(self, tried: Tried) -> bool:
        return max(tried.took_s) <= _BARE_UP_TO_S

    def _conditions(self, block: int) -> Mapping[str, int]:
        key = workload_key(self.study.workloads[self.workload])
        return block_conditions(self.seed, key, block, self.study.vary)

    def _watched(self, arm: int, tick_ns: int, block: int) -> tuple[WatchedRuns, TrialOutcome]:
        runs = WatchedRuns(self.launcher, self.way.way, tick_ns, self.seed + block)
        return runs, self.trials.run(self.workload, arm, self._conditions(block), by=runs)
