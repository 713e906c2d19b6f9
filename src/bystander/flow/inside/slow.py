"""Slow trials are caught: one state is watched until there are enough of them, beside typical ones."""

from __future__ import annotations

import secrets
import time
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import (
    SLOW,
    ArmState,
    PlannedBlock,
    PlannedTrial,
    RecordHead,
    Status,
    Study,
    TrialOutcome,
    block_conditions,
    workload_key,
)
from bystander.errors import InspectionError
from bystander.field import COUNTS_ONLY, FoundWay, Launcher, MachineLock, machine_facts
from bystander.flow.inside.asked import AskedSlow
from bystander.flow.inside.inspection import USUAL_TICK_NS, quick_tick_ns
from bystander.flow.inside.runs import begun_run, ended_well, ready_trials
from bystander.flow.observer import Observer
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.trials.trial import TrialRunner
from bystander.flow.trials.watching import WatchedRuns
from bystander.stats import apart
from bystander.units import counted, duration_text

__all__ = ["watch_slow"]

_ENOUGH = 8  # slow trials, beside as many typical ones at least
_FEWEST, _MOST = 20, 400  # trials
_MOST_S = 300.0


def watch_slow(
    kept: Archive, head: RecordHead, workload: int, arm: int, state: ArmState, asked: AskedSlow, observer: Observer,
    lock: MachineLock, way: FoundWay, limit_s: float | None,
) -> tuple[int, bool]:  # fmt: skip
    """Watch trials of one state until enough slow ones are caught, or time is over.

    Returned are the run's number, and whether nobody interrupted.

    Raises
    ------
    InspectionError
        When nothing can be watched here, or a trial does not end well.
    """
    if way.way == COUNTS_ONLY:
        raise InspectionError("nothing can be watched here, only counted, which does not tell slow trials from others")
    if way.sentence:
        observer.remark(way.sentence)
    seed = secrets.randbits(48)
    with Interrupts() as interrupts, Launcher(lock.fd, interrupts.fd) as launcher:
        interrupts.at_once = launcher.kill_at_once
        study, trials = ready_trials(head, workload, {arm: state}, launcher, limit_s)
        one = _Watched(study, workload, arm, trials, launcher, interrupts, way, observer, seed)
        tick_ns = one.quick()
        options = {"workload": workload, "arm": arm, "way": way.way, "slower_than": asked.slower_than_s}
        run, writer = begun_run(kept, head.uuid, SLOW, seed, machine_facts(), options)
        return run.number, ended_well(writer, lambda: one.watch(writer, asked, tick_ns))


def _slow(took: Sequence[float], asked: AskedSlow) -> int:
    """Return how many trials are slow so far."""
    values = np.array(took)
    return int((values > asked.slower_than_s if asked.slower_than_s is not None else apart(values)[1]).sum())


@dataclass
class _Watched:
    """The trials of one state."""

    study: Study
    workload: int
    arm: int
    trials: TrialRunner
    launcher: Launcher
    interrupts: Interrupts
    way: FoundWay
    observer: Observer
    seed: int

    def quick(self) -> int:
        """Watch a trial that is not kept; return how quick the clock must be."""
        outcome, _ = self._one(self.way.tick_ns(USUAL_TICK_NS), 0)
        return quick_tick_ns(self.way, outcome.took_s)

    def watch(self, writer: RecordWriter, asked: AskedSlow, tick_ns: int) -> bool:
        """Watch until it is enough; return whether nobody interrupted. What is whole then is kept all the same."""
        what = self.study.workloads[self.workload]
        took: list[float] = []
        begun = time.monotonic()
        most = asked.trials or _MOST
        until = "" if asked.trials else f" until {_ENOUGH} slow ones are caught"
        self.observer.doing(f"watching {what.name}{until}: at most {counted(most, 'trial')}")
        while len(took) < most:
            block = len(took)
            outcome, runs = self._one(tick_ns, block)
            took.append(outcome.took_s)
            planned = PlannedTrial(PlannedBlock(self.workload, block, (self.arm,)), self.arm, 0)
            writer.trial(planned, runs.told(outcome, block), what.limit_s, self._conditions(block))
            if len(took) % _FEWEST == 0 and self._enough(took, asked, time.monotonic() - begun):
                break
        return True

    def _enough(self, took: Sequence[float], asked: AskedSlow, spent_s: float) -> bool:
        slow = _slow(took, asked)
        left = duration_text(max(0.0, _MOST_S - spent_s), 2)
        self.observer.doing(f"{counted(len(took), 'trial')}, {slow} of them slow; at most {left} more")
        if asked.trials:
            return False
        return slow >= _ENOUGH or spent_s > _MOST_S

    def _conditions(self, block: int) -> dict[str, int]:
        key = workload_key(self.study.workloads[self.workload])
        return dict(block_conditions(self.seed, key, block, self.study.vary))

    def _one(self, tick_ns: int, block: int) -> tuple[TrialOutcome, WatchedRuns]:
        runs = WatchedRuns(self.launcher, self.way.way, tick_ns, self.seed + block)
        outcome = self.trials.run(self.workload, self.arm, self._conditions(block), by=runs)
        if self.interrupts.asked:
            raise KeyboardInterrupt
        if outcome.status is not Status.OK:
            name = self.study.workloads[self.workload].name
            said = f"{name} ended with {outcome.status.text}, so that slow trials are not told from failed ones."
            raise InspectionError(f"{said} {outcome.excerpt}".strip())
        return outcome, runs
