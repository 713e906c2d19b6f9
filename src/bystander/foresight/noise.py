"""How much a workload differs from itself: from blocks just tried, or from an earlier record."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Record, Status, Study, TrialOutcome, workload_key
from bystander.foresight.pace import BETWEEN_S
from bystander.foresight.tried import TrialBlock, Tried
from bystander.stats import median
from bystander.verdicts import Noise, noises

__all__ = ["TIMES", "record_noise", "tried_noise"]

TIMES = ("elapsed", "cpu", "unqueued")
Floats = NDArray[np.float64]


def tried_noise(study: Study, blocks: Sequence[TrialBlock], tried: Sequence[Tried]) -> tuple[Noise, ...]:
    """Return the noise of each workload of which blocks were tried."""
    found = []
    for w in sorted({block.workload for block in blocks}):
        mine = [block for block in blocks if block.workload == w]
        differences = {measure: _differences(mine, measure) for measure in (*TIMES, study.measure)}
        shares = np.array([_reading(one, "cpu") / _reading(one, "elapsed") for block in mine for one in block.twins])
        block_s = sum(one.outcome.took_s + BETWEEN_S for one in tried if one.workload == w)
        found.append(Noise(w, differences, median(shares[np.isfinite(shares)]), block_s))
    return tuple(found)


def _reading(outcome: TrialOutcome, measure: str) -> float:
    value = outcome.readings.get(measure, math.nan)
    return value if outcome.status is Status.OK and value > 0 else math.nan


def _differences(blocks: Sequence[TrialBlock], measure: str) -> Floats:
    pairs = np.array([[_reading(one, measure) for one in block.twins] for block in blocks])
    return np.asarray(np.diff(np.log(pairs), axis=1)[:, 0])


def record_noise(study: Study, record: Record) -> tuple[Noise, ...]:
    """Return the noise of each workload of the study that the record has too, told by what its trials run."""
    places = {key: w for w, key in enumerate(record.head.workload_keys)}
    wanted = {places[key]: w for w, workload in enumerate(study.workloads) if (key := workload_key(workload)) in places}
    arms = len(study.arms) / len(record.head.study.arms)
    return tuple(
        replace(one, workload=wanted[one.workload], block_s=one.block_s * arms)
        for one in noises(record, (*TIMES, study.measure))
        if one.workload in wanted
    )
