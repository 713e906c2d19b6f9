"""What a study could show, by simulation from the noise of its workloads."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bystander.design import Study
from bystander.foresight.noise import TIMES
from bystander.stats import blocks_for_shift, smallest_shown
from bystander.units import listed, share_text
from bystander.verdicts import Noise, looks_for

__all__ = ["Outlook", "measure_advice", "outlooks"]

_READABLE = 5.0  # beyond e^5 a change says nothing
_PAYS = 0.75  # CPU time is advised where it shows changes so much smaller
_BUSY = 0.5  # and where trials compute for so much of their time


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
    seconds_for_change : float
        How long they take; NaN where it is not known.
    """

    workload: int
    smallest: float
    by_elapsed: float
    by_cpu: float
    by_unqueued: float
    computing: float
    blocks_for_change: float
    seconds_for_change: float


def outlooks(study: Study, noises: Sequence[Noise], change: float | None = None) -> tuple[Outlook, ...]:
    """Return what the study could show of each workload whose noise is known.

    Parameters
    ----------
    change : float, optional
        As a share: how many blocks would show it; the margin by default.
    """
    return tuple(_outlook(study, noise, change or study.margin) for noise in noises)


def _outlook(study: Study, noise: Noise, change: float) -> Outlook:
    level, margin = study.risk / max(1, study.planned_rows), math.log1p(study.margin)
    unknown, looks = np.zeros(0), looks_for(study, study.planned_blocks[noise.workload])

    def by(measure: str) -> float:
        differences = noise.differences.get(measure, unknown)
        shift = smallest_shown(differences, looks, level, margin, noise.workload)
        return math.expm1(shift) if shift < _READABLE else math.inf if shift >= _READABLE else math.nan

    found = {measure: by(measure) for measure in (*TIMES, study.measure)}
    needed = blocks_for_shift(
        noise.differences.get(study.measure, unknown), math.log1p(change), level, min(margin, math.log1p(change) / 2),
        lambda most: looks_for(study, most), noise.workload,
    )  # fmt: skip
    return Outlook(
        noise.workload, found[study.measure], found["elapsed"], found["cpu"], found["unqueued"], noise.computing,
        needed, needed * noise.block_s,
    )  # fmt: skip


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
            f"does not see waiting ({listed(waiting, 3)})."
        )
    if cpu <= _PAYS * elapsed:
        but = f", but it does not see waiting, which is most of {listed(waiting, 3)}" if waiting else ""
        return f"CPU time is the wiser measure here: {instead(cpu)}{but}{choose('cpu')}."
    if cpu < elapsed:
        seen = f"CPU time would show hardly less ({share_text(cpu)} instead of {share_text(elapsed)}{typical})"
    else:
        seen = f"CPU time would show changes of {share_text(cpu)} where it shows {share_text(elapsed)}{typical}"
    return f"Elapsed time is the wiser measure here: {seen}, and CPU time does not see waiting."
