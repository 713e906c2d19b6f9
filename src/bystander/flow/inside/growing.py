"""How a program grows: one state is watched at several sizes of an input, side by side in blocks, and counted."""

from __future__ import annotations

import math
import random
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import (
    GROWTH,
    ArmState,
    PlannedBlock,
    PlannedTrial,
    RecordHead,
    Status,
    Study,
    TimedCallable,
    TrialOutcome,
    block_conditions,
    chosen_names,
    size_of,
    workload_key,
)
from bystander.errors import InspectionError, UsageError
from bystander.field import COUNTS_ONLY, ArmMaker, FoundWay, Launcher, MachineLock, found_way, machine_facts
from bystander.flow.inside.asked import AskedGrowth
from bystander.flow.inside.inspection import COUNTED_TRIALS, SLOWER, USUAL_TICK_NS, quick_tick_ns
from bystander.flow.inside.runs import begun_run, ended_well, ready_trials
from bystander.flow.observer import Observer
from bystander.flow.sessions.heads import home_of, refuse_foreign
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.trials.trial import TrialRunner
from bystander.flow.trials.watching import CountedRuns, WatchedRuns
from bystander.units import counted, duration_text, listed

__all__ = ["growing_workloads", "inspect_growth", "watch_growth"]

_BLOCKS = 6
_COUNTS_UP_TO_S = 120.0  # counting follows by itself where it takes no longer
_NAMED = 6
_COUNTING_FROM = 100_000  # numbers of blocks in which calls are counted


def growing_workloads(study: Study, only: Sequence[str], name: str) -> list[int]:
    """Return the positions of workloads that are alike but for a number of one input, the smallest first.

    Raises
    ------
    UsageError
        When there is no such input, or there are fewer than three sizes.
    """
    wanted = set(chosen_names(study.workloads, list(only), "the study")) if only else {w.name for w in study.workloads}
    with_it = [at for at, one in enumerate(study.workloads) if one.name in wanted and name in one.inputs]
    if not with_it:
        inputs = sorted({name for one in study.workloads for name in one.inputs})
        known = f"inputs are {listed(inputs, _NAMED)}" if inputs else "the study has no inputs"
        raise UsageError(f'--inputs: no workload has an input "{name}"; {known}')
    alike: dict[tuple[str, tuple[tuple[str, str], ...]], list[int]] = {}
    for at in with_it:
        one = study.workloads[at]
        rest = tuple(sorted((key, value) for key, value in one.inputs.items() if key != name))
        if not math.isnan(size_of(one, name)):
            alike.setdefault((one.base, rest), []).append(at)
    if not alike:
        raise UsageError(f'--inputs: the values of "{name}" are no numbers above zero')
    if len(alike) > 1:
        names = listed([study.workloads[mine[0]].name for mine in alike.values()], _NAMED)
        raise UsageError(f"--inputs: several workloads grow with {name}, such as {names}; name one: --only")
    (found,) = alike.values()
    found.sort(key=lambda at: size_of(study.workloads[at], name))
    if len({size_of(study.workloads[at], name) for at in found}) < 3:
        there = counted(len(found), "size")
        raise UsageError(f"--inputs: {name} has {there}; how it grows takes three at least, each twice as large, say")
    return found


def inspect_growth(
    archive: Path, name: str | None, caller: Mapping[str, str], observer: Observer, only: Sequence[str],
    arm: str | None, asked: AskedGrowth, *, way: str | None = None, wait: bool = False, limit_s: float | None = None,
) -> tuple[str, bool]:  # fmt: skip
    """Watch one state of a record at several sizes, in the very arm that it had.

    Returned are the record's name, and whether nobody interrupted.

    Raises
    ------
    UsageError
        When somebody else's file made the record, or the sizes make no sense.
    ArmError
        When the arm is not what it was.
    InspectionError
        When a trial does not end well.
    """
    with Archive(archive) as kept:
        head = kept.head(name)
        refuse_foreign(head, "inspect its study instead")
        workloads = growing_workloads(head.study, only, asked.name)
        names = [one.name for one in head.study.arms if not one.placebo]
        if arm is not None and arm not in names:
            raise UsageError(f'--arm: there is no arm "{arm}"; there are {listed(names, _NAMED)}')
        position = [one.name for one in head.study.arms].index(arm or names[-1])
        with MachineLock(head.study.name, waiting=observer.remark if wait else None) as lock:
            home = home_of(head)
            home.keep_beside(archive)
            state = ArmMaker(home, caller, archive).again(head.study, head.study.arms[position], head.arms[position])
            observer.made(state)
            found = watch_growth(kept, head, workloads, position, state, asked, observer, lock, found_way(way), limit_s)
            return head.name, found[1]


def watch_growth(
    kept: Archive, head: RecordHead, workloads: Sequence[int], arm: int, state: ArmState, asked: AskedGrowth,
    observer: Observer, lock: MachineLock, way: FoundWay, limit_s: float | None,
) -> tuple[int, bool]:  # fmt: skip
    """Watch some workloads of a record under one arm, in shuffled blocks, then count calls.

    Returned are the run's number, and whether nobody interrupted.
    """
    if way.way == COUNTS_ONLY:
        raise InspectionError("nothing can be watched here, only counted, and how seconds grow is not told by that")
    if way.sentence:
        observer.remark(way.sentence)
    seed = secrets.randbits(48)
    with Interrupts() as interrupts, Launcher(lock.fd, interrupts.fd) as launcher:
        interrupts.at_once = launcher.kill_at_once
        sizes = _Sizes(head, tuple(workloads), arm, launcher, interrupts, way, observer, seed)
        sizes.prepare(state, limit_s)
        took = sizes.try_once()
        blocks = asked.blocks or _BLOCKS
        counting = asked.counts if asked.counts is not None else took * SLOWER * COUNTED_TRIALS <= _COUNTS_UP_TO_S
        most = took * blocks + (took * SLOWER * COUNTED_TRIALS if counting else 0.0)
        then = ", then calls are counted" if counting else ""
        observer.doing(f"{counted(blocks, 'block')} of {len(workloads)} sizes{then}: at most {duration_text(most, 2)}")
        options = {
            "workloads": list(workloads), "arm": arm, "input": asked.name, "way": way.way, "blocks": blocks,
            "each": sizes.each,
        }  # fmt: skip
        run, writer = begun_run(kept, head.uuid, GROWTH, seed, machine_facts(), options)

        def work() -> bool:
            return sizes.watch(writer, blocks) and (not counting or sizes.count(writer))

        return run.number, ended_well(writer, work)


@dataclass
class _Sizes:
    """The trials of several sizes of one workload."""

    head: RecordHead
    workloads: tuple[int, ...]
    arm: int
    launcher: Launcher
    interrupts: Interrupts
    way: FoundWay
    observer: Observer
    seed: int

    def prepare(self, state: ArmState, limit_s: float | None) -> None:
        """Make the trials of each size ready."""
        self._trials: dict[int, TrialRunner] = {}
        self._studies: dict[int, Study] = {}
        prepared: set[int] = set()
        for at in self.workloads:
            self._studies[at], self._trials[at] = ready_trials(
                self.head, at, {self.arm: state}, self.launcher, limit_s, prepared
            )
        self._ticks: dict[int, int] = {}

    @property
    def each(self) -> list[int] | None:
        """How often a trial of each size does it, as those of a callable do; None for commands."""
        what = [self._studies[at].workloads[at].what for at in self.workloads]
        found = [one.samples * one.iterations for one in what if isinstance(one, TimedCallable)]
        return found if len(found) == len(what) else None

    def try_once(self) -> float:
        """Watch each size once, which is not kept: how quick the clock must be; return what all took together."""
        sum_s = 0.0
        for at in self.workloads:
            self.observer.doing(f"watching {self._name(at)} once first")
            _, outcome = self._watched(at, self.way.tick_ns(USUAL_TICK_NS), 0)
            self._check(at, outcome)
            self._ticks[at] = quick_tick_ns(self.way, outcome.took_s)
            sum_s += outcome.took_s
        self._each_s = sum_s
        return sum_s

    def watch(self, writer: RecordWriter, blocks: int) -> bool:
        """Run blocks, each with every size once in an order drawn by chance; return whether nobody interrupted."""
        draw = random.Random(self.seed)
        for block in range(blocks):
            order = list(self.workloads)
            draw.shuffle(order)
            for at in order:
                runs, outcome = self._watched(at, self._ticks[at], block)
                if self.interrupts.asked:
                    return False
                self._check(at, outcome)
                self._write(writer, at, block, runs.told(outcome, block))
            self.observer.watched(
                self._name(self.workloads[-1]), block + 1, blocks, self._each_s * (blocks - block - 1)
            )
        return True

    def count(self, writer: RecordWriter) -> bool:
        """Count the calls of each size twice."""
        runs = CountedRuns(self.launcher)
        for at in self.workloads:
            self.observer.doing(f"counting calls of {self._name(at)}")
            for block in range(COUNTED_TRIALS):
                outcome = self._trials[at].run(at, self.arm, self._conditions(at, 0), by=runs)
                if self.interrupts.asked:
                    return False
                if outcome.status is not Status.OK or not (runs.counts and runs.counts.processes):
                    self.observer.remark(f"Calls of {self._name(at)} could not be counted.")
                    return True
                self._write(writer, at, _COUNTING_FROM + block, runs.told(outcome, block))
        return True

    def _name(self, at: int) -> str:
        return self.head.study.workloads[at].name

    def _conditions(self, at: int, block: int) -> Mapping[str, int]:
        study = self._studies[at]
        return block_conditions(self.seed, workload_key(study.workloads[at]), block, study.vary)

    def _watched(self, at: int, tick_ns: int, block: int) -> tuple[WatchedRuns, TrialOutcome]:
        runs = WatchedRuns(self.launcher, self.way.way, tick_ns, self.seed + block)
        outcome = self._trials[at].run(at, self.arm, self._conditions(at, block), by=runs)
        if self.interrupts.asked:
            raise KeyboardInterrupt
        return runs, outcome

    def _check(self, at: int, outcome: TrialOutcome) -> None:
        if outcome.status is not Status.OK:
            said = f"{self._name(at)} ended with {outcome.status.text}, so that it is not known how it grows."
            raise InspectionError(f"{said} {outcome.excerpt}".strip())

    def _write(self, writer: RecordWriter, at: int, block: int, outcome: TrialOutcome) -> None:
        planned = PlannedTrial(PlannedBlock(at, block, (self.arm,)), self.arm, 0)
        limit_s = self._studies[at].workloads[at].limit_s
        writer.trial(planned, outcome, limit_s, self._conditions(at, block))
