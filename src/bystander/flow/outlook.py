"""What a study could show, from a few blocks in which the reference runs against itself; nothing is recorded."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Status, Study, TrialOutcome, block_conditions, plan_rounds, workload_key
from bystander.flow.observer import Observer
from bystander.flow.rehearsal import Tried
from bystander.flow.trial import TrialRunner
from bystander.stats import blocks_for_shift, smallest_shown
from bystander.units import share_text
from bystander.verdicts import study_looks

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
    by_elapsed, by_cpu, by_unqueued : float
        The same by elapsed time, by CPU time, and by elapsed time less that in the run queue.
    computing : float
        CPU time over elapsed time.
    blocks_for_change : float
        The most blocks of a study that shows the change asked about in 8 of 10 cases.
    """

    workload: int
    smallest: float
    by_elapsed: float
    by_cpu: float
    by_unqueued: float
    computing: float
    blocks_for_change: float


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


def outlooks(study: Study, blocks: Sequence[TrialBlock], change: float | None = None) -> tuple[Outlook, ...]:
    """Return what the study could show of each workload that was tried.

    Parameters
    ----------
    change : float, optional
        As a share: how many blocks would show it; the margin by default.
    """
    return tuple(
        _outlook(study, w, [block for block in blocks if block.workload == w], change or study.margin)
        for w in sorted({block.workload for block in blocks})
    )


def _outlook(study: Study, workload: int, blocks: Sequence[TrialBlock], change: float) -> Outlook:
    level, margin = study.risk / max(1, study.comparisons), math.log1p(study.margin)

    def by(measure: str) -> float:
        shift = smallest_shown(_differences(blocks, measure), study_looks(study), level, margin, workload)
        return math.expm1(shift) if shift < _READABLE else math.inf if shift >= _READABLE else math.nan

    found = {measure: by(measure) for measure in ("elapsed", "cpu", "unqueued")}
    smallest = found[study.measure] if study.measure in found else by(study.measure)
    shares = [_reading(one, "cpu") / _reading(one, "elapsed") for block in blocks for one in block.twins]
    computing = float(np.nanmedian(shares)) if np.isfinite(shares).any() else math.nan
    needed = blocks_for_shift(
        _differences(blocks, study.measure), math.log1p(change), level, min(margin, math.log1p(change) / 2),
        lambda most: study_looks(replace(study, blocks=most)), workload,
    )  # fmt: skip
    by_elapsed, by_cpu, by_unqueued = found.values()
    return Outlook(workload, smallest, by_elapsed, by_cpu, by_unqueued, computing, needed)


def _reading(outcome: TrialOutcome, measure: str) -> float:
    value = outcome.readings.get(measure, math.nan)
    return value if outcome.status is Status.OK and value > 0 else math.nan


def _differences(blocks: Sequence[TrialBlock], measure: str) -> NDArray[np.float64]:
    pairs = np.array([[_reading(one, measure) for one in block.twins] for block in blocks])
    return np.asarray(np.diff(np.log(pairs), axis=1)[:, 0])


def measure_advice(study: Study, found: Sequence[Outlook]) -> str:
    """Say which of three times is the wiser measure here, and why; "" when it is not known.

    CPU time sees no waiting. Elapsed time less the run queue does, but is known only of programs of one process.
    """
    known = [o for o in found if math.isfinite(o.by_elapsed) and math.isfinite(o.by_cpu) and o.computing > 0]
    if not known or study.measure not in ("elapsed", "cpu", "unqueued"):
        return ""
    waiting = [study.workloads[o.workload].name for o in known if o.computing < _BUSY]
    elapsed, cpu, unqueued = (
        float(np.median([getattr(o, by) for o in known])) for by in ("by_elapsed", "by_cpu", "by_unqueued")
    )
    typical = " (medians over workloads)" if len(known) > 1 else ""

    def instead(share: float) -> str:
        other = f"where elapsed time would show {share_text(elapsed)}{typical}"
        return f"it would show changes of {share_text(share)} {other}"

    def choose(name: str) -> str:
        return "" if study.measure == name else f'; choose it before the start: measure = "{name}"'

    if unqueued <= _PAYS * elapsed and (waiting or unqueued <= cpu / _PAYS):
        return (
            f"Elapsed time less the run queue is the wiser measure here: {instead(unqueued)}, and it sees all waiting "
            f"but that for a processor{choose('unqueued')}."
        )
    if len(waiting) > len(known) / 2:
        return (
            "Elapsed time is the wiser measure here: most of these workloads wait more than they compute, and CPU time "
            f"does not see waiting ({_named(waiting)})."
        )
    if cpu <= _PAYS * elapsed:
        but = f", but it does not see waiting, which is most of {_named(waiting)}" if waiting else ""
        return f"CPU time is the wiser measure here: {instead(cpu)}{but}{choose('cpu')}."
    return (
        f"Elapsed time is the wiser measure here: CPU time would show changes of {share_text(cpu)} where it shows "
        f"{share_text(elapsed)}{typical}, and CPU time does not see waiting."
    )


def _named(names: Sequence[str]) -> str:
    rest = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return ", ".join(names[:3]) + rest
