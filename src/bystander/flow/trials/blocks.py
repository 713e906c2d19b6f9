"""Blocks are run: one function for those of an observation, and for a few that are tried before and not recorded."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from bystander.design import (
    BlockRun,
    PlannedBlock,
    PlannedTrial,
    Run,
    Study,
    TrialOutcome,
    block_conditions,
    plan_rounds,
    workload_key,
)
from bystander.flow.observer import Observer
from bystander.flow.trials.trial import TrialRunner
from bystander.foresight import TrialBlock, Tried

__all__ = ["BlockSetting", "Clocks", "StopAskedError", "run_block", "trial_blocks"]

_CLOCK_GAP_S = 1.0  # a block during which the clocks part by more was not one run


class StopAskedError(Exception):
    """The user asked to stop."""


def _clock_offset() -> float:
    """Return wall time less monotonic time, in seconds; it jumps when the machine slept or a clock was set."""
    return time.time() - time.monotonic()


@dataclass(frozen=True)
class Clocks:
    """Clocks, in seconds, so that tests can give others: since any moment, and wall time less that."""

    monotonic: Callable[[], float] = time.monotonic
    offset: Callable[[], float] = _clock_offset


def _never() -> bool:
    return False


def _never_stopped() -> int:
    return 0


def _nothing(_place: PlannedTrial, _outcome: TrialOutcome, _conditions: Mapping[str, int]) -> None:
    pass


@dataclass(frozen=True)
class BlockSetting:
    """What is the same for all blocks of a run on one machine.

    Attributes
    ----------
    keys : sequence of str
        Of the study's workloads, from which conditions are drawn.
    machine : int
        A position among the record's machines.
    stopped : callable
        Whether the user asked to stop; then a block that began ends after the trial that runs.
    continued : callable
        How often this process was stopped and goes on.
    """

    study: Study
    run: Run
    keys: Sequence[str]
    machine: int = 0
    clocks: Clocks = field(default_factory=Clocks)
    stopped: Callable[[], bool] = _never
    continued: Callable[[], int] = _never_stopped


RunTrial = Callable[[int, int, Mapping[str, int]], TrialOutcome]


def run_block(
    run: RunTrial,
    block: PlannedBlock,
    setting: BlockSetting,
    attempt: int = 0,
    ended: Callable[[PlannedTrial, TrialOutcome, Mapping[str, int]], None] = _nothing,
) -> BlockRun:
    """Run a planned block: its arms back to back, in its order, under conditions of its own.

    Parameters
    ----------
    run : callable
        Runs one trial of a workload under an arm, in conditions.
    ended : callable
        Is given each trial as it ends, before the next begins.

    Raises
    ------
    StopAskedError
        Between two of its trials, when the user asked to stop.
    """
    begun, offset, continued = setting.clocks.monotonic(), setting.clocks.offset(), setting.continued()
    key, vary = setting.keys[block.workload], setting.study.vary
    conditions = block_conditions(setting.run.seed, key, block.number, vary)
    outcomes: dict[int, TrialOutcome] = {}
    for order, arm in enumerate(block.order):
        if order and setting.stopped():
            raise StopAskedError
        outcomes[arm] = run(block.workload, arm, conditions)
        ended(PlannedTrial(block, arm, order), outcomes[arm], conditions)
    disturbed = next((outcome.disturbed for outcome in outcomes.values() if outcome.disturbed), "")
    if abs(setting.clocks.offset() - offset) > _CLOCK_GAP_S:
        disturbed = "the machine slept or its clock was set"
    elif setting.continued() != continued:
        disturbed = "Bystander itself was stopped for a while"
    took_s = setting.clocks.monotonic() - begun
    return BlockRun(block.workload, block.number, attempt, setting.machine, conditions, outcomes, took_s, disturbed)


def trial_blocks(
    study: Study,
    trials: TrialRunner,
    tried: Sequence[Tried],
    count: int | Sequence[int],
    observer: Observer,
    candidates: bool = False,
    clocks: Clocks | None = None,
) -> tuple[TrialBlock, ...]:
    """Run so many blocks of each workload whose rehearsal went well; nothing is recorded.

    Parameters
    ----------
    count : int or sequence of int
        Of each workload.
    candidates : bool
        Run every other arm too, to know how long a block takes.
    """
    well = {one.workload for one in tried} - {one.workload for one in tried if not one.well}
    reference, control = study.reference_at, study.control
    twin = control.candidate if control else reference
    others = [a for a in range(len(study.arms)) if candidates and a not in (reference, twin)]
    arms, names = [reference, twin, *others], ["reference", "twin", *(study.arms[a].name for a in others)]
    keys = [f"trial {workload_key(workload)}" for workload in study.workloads]
    clocks = clocks or Clocks()
    setting = BlockSetting(study, Run(seed=study.seed or 0), keys, clocks=clocks)
    spent: dict[int, float] = {}

    def run(workload: int, arm: int, conditions: Mapping[str, int]) -> TrialOutcome:
        begun = clocks.monotonic()
        outcome = trials.run(workload, arms[arm], conditions)
        spent[arm] = clocks.monotonic() - begun
        return outcome

    found = []
    for planned in plan_rounds(setting.run.seed, keys, names, count):
        if planned.workload in well:
            of = count if isinstance(count, int) else count[planned.workload]
            observer.trying(study.workloads[planned.workload].name, planned.number, of)
            ran = run_block(run, planned, setting)
            extra = 0.0 if control else spent[1]  # the observation runs the reference once
            found.append(TrialBlock(planned.workload, (ran.outcomes[0], ran.outcomes[1]), ran.took_s - extra))
    return tuple(found)
