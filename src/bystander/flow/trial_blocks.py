"""A few blocks in which the reference runs against itself, before an observation; nothing is recorded."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass

from bystander.design import Status, Study, TrialOutcome, block_conditions, plan_rounds, workload_key
from bystander.flow.observer import Observer
from bystander.flow.rehearsal import Tried
from bystander.flow.trial import TrialRunner

__all__ = ["FEWEST_BLOCKS", "MOST_BLOCKS", "TrialBlock", "trial_blocks"]

FEWEST_BLOCKS, MOST_BLOCKS = 4, 8


@dataclass(frozen=True)
class TrialBlock:
    """One workload under the reference twice, and under all candidates where that was asked for.

    Attributes
    ----------
    twins : pair of TrialOutcome
        The reference, and the placebo or the reference again.
    seconds : float
        What the block would take in the observation: all arms once, with everything between.
    """

    workload: int
    twins: tuple[TrialOutcome, TrialOutcome]
    seconds: float


def trial_blocks(
    study: Study, trials: TrialRunner, tried: Sequence[Tried], count: int, observer: Observer, candidates: bool = False
) -> tuple[TrialBlock, ...]:
    """Run so many blocks of each workload whose rehearsal went well.

    Parameters
    ----------
    candidates : bool
        Run every other arm too, to know how long a block takes.
    """
    seed = 0 if study.seed is None else study.seed
    well = {one.workload for one in tried} - {one.workload for one in tried if one.outcome.status is not Status.OK}
    twin = 0 if study.placebo is None else study.placebo
    others = [a for a in range(1, len(study.arms)) if candidates and a != twin]
    arms = [0, twin, *others]
    found = []
    keys = [f"trial {workload_key(workload)}" for workload in study.workloads]
    for block in plan_rounds(seed, keys, len(arms), count):
        if block.workload in well:
            observer.trying(study.workloads[block.workload].name, block.number, count)
            conditions = block_conditions(seed, keys[block.workload], block.number, study.vary)
            begun, outcomes, extra = time.monotonic(), {}, 0.0
            for place in block.order:
                start = time.monotonic()
                outcomes[place] = trials.run(block.workload, arms[place], conditions=conditions)
                extra += (time.monotonic() - start) if place == 1 and study.placebo is None else 0.0
            seconds = time.monotonic() - begun - extra
            found.append(TrialBlock(block.workload, (outcomes[0], outcomes[1]), seconds))
    return tuple(found)
