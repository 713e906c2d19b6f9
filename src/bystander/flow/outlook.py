"""What a study could show, from a few blocks in which the reference runs against itself; nothing is recorded."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import Status, Study, TrialOutcome, block_conditions, plan_rounds, workload_key
from bystander.flow.observer import Observer
from bystander.flow.rehearsal import Tried
from bystander.flow.trial import TrialRunner
from bystander.stats import smallest_shown
from bystander.units import share_text

__all__ = ["FEWEST_BLOCKS", "MOST_BLOCKS", "Outlook", "TrialBlock", "measure_advice", "outlooks", "trial_blocks"]

FEWEST_BLOCKS, MOST_BLOCKS = 4, 8
_READABLE = 5.0  # beyond e^5 a change says nothing
_PAYS = 0.75  # CPU time is advised where it shows changes so much smaller
_BUSY = 0.5  # and where trials compute for so much of their time


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


@dataclass(frozen=True)
class Outlook:
    """What a study could show of one workload with its blocks.

    Attributes
    ----------
    smallest : float
        The smallest change, as a share, that 8 of 10 such studies would show by the study's measure;
        infinite when none could be, NaN when it is not known.
    by_elapsed, by_cpu : float
        The same by elapsed and by CPU time.
    computing : float
        CPU time over elapsed time.
    """

    workload: int
    smallest: float
    by_elapsed: float
    by_cpu: float
    computing: float


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


def outlooks(study: Study, blocks: Sequence[TrialBlock]) -> tuple[Outlook, ...]:
    """Return what the study could show of each workload that was tried."""
    level = study.risk / max(1, study.comparisons)
    return tuple(
        _outlook(study, w, [block for block in blocks if block.workload == w], level)
        for w in sorted({block.workload for block in blocks})
    )


def _outlook(study: Study, workload: int, blocks: Sequence[TrialBlock], level: float) -> Outlook:
    def by(measure: str) -> float:
        shift = smallest_shown(_differences(blocks, measure), study.blocks, level, workload)
        return math.expm1(shift) if shift < _READABLE else math.inf if shift >= _READABLE else math.nan

    elapsed, cpu = by("elapsed"), by("cpu")
    smallest = {"elapsed": elapsed, "cpu": cpu}.get(study.measure)
    shares = [_reading(one, "cpu") / _reading(one, "elapsed") for block in blocks for one in block.twins]
    computing = float(np.nanmedian(shares)) if np.isfinite(shares).any() else math.nan
    return Outlook(workload, by(study.measure) if smallest is None else smallest, elapsed, cpu, computing)


def _reading(outcome: TrialOutcome, measure: str) -> float:
    value = outcome.readings.get(measure, math.nan)
    return value if outcome.status is Status.OK and value > 0 else math.nan


def _differences(blocks: Sequence[TrialBlock], measure: str) -> NDArray[np.float64]:
    pairs = np.array([[_reading(one, measure) for one in block.twins] for block in blocks])
    return np.asarray(np.diff(np.log(pairs), axis=1)[:, 0])


def measure_advice(study: Study, found: Sequence[Outlook]) -> str:
    """Say whether elapsed or CPU time is the wiser measure here, and why; "" when it is not known."""
    known = [o for o in found if math.isfinite(o.by_elapsed) and math.isfinite(o.by_cpu) and o.computing > 0]
    if not known or study.measure not in ("elapsed", "cpu"):
        return ""
    waiting = [study.workloads[o.workload].name for o in known if o.computing < _BUSY]
    elapsed, cpu = (float(np.median([getattr(o, by) for o in known])) for by in ("by_elapsed", "by_cpu"))
    seen = f"changes of {share_text(cpu)} where elapsed time would show {share_text(elapsed)}"
    typical = " (medians over workloads)" if len(known) > 1 else ""
    if len(waiting) > len(known) / 2:
        return (
            "Elapsed time is the wiser measure here: most of these workloads wait more than they compute, and CPU time "
            f"does not see waiting ({_named(waiting)})."
        )
    if cpu <= _PAYS * elapsed:
        but = f", but it does not see waiting, which is most of {_named(waiting)}" if waiting else ""
        choice = "" if study.measure == "cpu" else '; choose it before the start: measure = "cpu"'
        return f"CPU time is the wiser measure here: it would show {seen}{typical}{but}{choice}."
    return f"Elapsed time is the wiser measure here: CPU time would show {seen}{typical}, and it does not see waiting."


def _named(names: Sequence[str]) -> str:
    rest = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return ", ".join(names[:3]) + rest
