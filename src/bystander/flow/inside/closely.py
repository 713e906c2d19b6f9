"""One function is looked at closely: how often its lines run, and its calls by what they are given."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import (
    CLOSELY,
    ArmState,
    Given,
    PlannedBlock,
    PlannedTrial,
    RecordHead,
    Status,
    Study,
    block_conditions,
    workload_key,
)
from bystander.errors import InspectionError, UsageError
from bystander.field import ArmMaker, CloseHook, Launcher, MachineLock, machine_facts
from bystander.flow.inside.asked import AskedClosely
from bystander.flow.inside.runs import begun_run, ended_well, ready_trials
from bystander.flow.inside.targets import compared_record, targets_of
from bystander.flow.observer import Observer
from bystander.flow.sessions.heads import home_of, refuse_foreign
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.trials.trial import TrialRunner
from bystander.flow.trials.watching import CloseRuns
from bystander.units import listed

__all__ = ["both_arms", "count_closely", "inspect_closely"]

_NAMES = "it is a label such as telegrams.parse, a name, a file or file:line, and bystander leads --all lists them"
_TRIALS = 2  # of each arm: what does not repeat is no evidence


def inspect_closely(
    archive: Path,
    name: str | None,
    caller: Mapping[str, str],
    observer: Observer,
    place: tuple[int, int, int],
    asked: AskedClosely,
    *,
    wait: bool = False,
    limit_s: float | None = None,
) -> tuple[str, bool]:
    """Look closely at a function in both arms of a record, in the very arms that it had.

    Returned are the record's name, and whether nobody interrupted.

    Parameters
    ----------
    place : (int, int, int)
        Positions of workload, reference and candidate.

    Raises
    ------
    UsageError
        When somebody else's file made the record: what it says is never run.
    ArmError
        When an arm is not what it was.
    InspectionError
        When a trial does not end well, or never comes to the function.
    """
    with Archive(archive) as kept:
        head = compared_record(kept, name)
        refuse_foreign(head, "inspect its study instead")
        with MachineLock(head.study.name, waiting=observer.remark if wait else None) as lock:
            home = home_of(head)
            home.keep_beside(archive)
            maker = ArmMaker(home, caller, archive)
            arms = {}
            for arm in place[1:]:
                arms[arm] = maker.again(head.study, head.study.arms[arm], head.arms[arm])
                observer.made(arms[arm])
            return head.name, count_closely(kept, head, place[0], arms, asked, observer, lock, limit_s)[1]


def both_arms(archive: Path, name: str | None, only: Sequence[str], observer: Observer) -> tuple[int, int, int]:
    """Return the one workload that is meant and its arms; raise UsageError or InspectionError where it is not one."""
    with Archive(archive) as kept:
        head = compared_record(kept, name)
        found = targets_of(kept, head, only, observer, Given())
    if len(found) > 1:
        names = list(dict.fromkeys(head.study.workloads[one[0]].name for one in found))
        raise UsageError(f"one workload is looked at closely at a time; name it: --only, of {listed(names, 6)}")
    return found[0]


def count_closely(
    kept: Archive, head: RecordHead, workload: int, arms: Mapping[int, ArmState], asked: AskedClosely,
    observer: Observer, lock: MachineLock, limit_s: float | None,
) -> tuple[int, bool]:  # fmt: skip
    """Run trials of a workload under some arms, in which a function is looked at closely.

    Returned are the run's number, and whether nobody interrupted.
    """
    order = tuple(arms)
    options = {
        "workload": workload, "arm": order[-1], "against": order[0] if len(order) > 1 else None, "place": asked.place,
        "arguments": asked.arguments,
    }  # fmt: skip
    seed = secrets.randbits(48)
    with Interrupts() as interrupts, Launcher(lock.fd, interrupts.fd) as launcher:
        interrupts.at_once = launcher.kill_at_once
        study, trials = ready_trials(head, workload, dict(arms), launcher, limit_s)
        what = study.workloads[workload].name
        observer.doing(f"looking closely at {asked.place} in {what}, {_TRIALS} trials an arm")
        run, writer = begun_run(kept, head.uuid, CLOSELY, seed, machine_facts(), options)

        def count() -> bool:
            met = False
            for block in range(_TRIALS):
                for position, arm in enumerate(order):
                    hook = CloseHook(asked.place, arms[arm].folder, asked.arguments)
                    one = _Trial(study, workload, arm, order, block, position, seed)
                    if not one.run(CloseRuns(launcher, hook), trials, writer):
                        raise InspectionError(one.failed)
                    if interrupts.asked:
                        return False
                    met = met or one.met
            if not met:
                raise InspectionError(f"{what} never came to a function called {asked.place}; {_NAMES}")
            return True

        return run.number, ended_well(writer, count)


@dataclass
class _Trial:
    """One trial: under which arm, and where in its block."""

    study: Study
    workload: int
    arm: int
    order: tuple[int, ...]
    block: int
    position: int
    seed: int
    failed: str = ""
    met: bool = False

    def run(self, runs: CloseRuns, trials: TrialRunner, writer: RecordWriter) -> bool:
        """Run and write it; return whether it ended well and told something."""
        what = self.study.workloads[self.workload]
        conditions = block_conditions(self.seed, workload_key(what), 0, self.study.vary)
        outcome = trials.run(self.workload, self.arm, conditions, by=runs)
        planned = PlannedTrial(PlannedBlock(self.workload, self.block, self.order), self.arm, self.position)
        writer.trial(planned, runs.told(outcome, self.block), what.limit_s, conditions)
        name = f"{what.name} under {self.study.arms[self.arm].name}" if len(self.study.arms) > 1 else what.name
        if outcome.status is not Status.OK:
            said = f"{name} ended with {outcome.status.text}, so that nothing was counted. {outcome.excerpt}"
            self.failed = said.strip()
        elif runs.closely is None or not runs.closely.processes:
            self.failed = f"{name} started no Python that took the hook in, so that nothing was counted"
        self.met = bool(runs.closely and runs.closely.places)
        return not self.failed
