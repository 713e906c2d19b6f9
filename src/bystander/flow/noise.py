"""How much a workload differs from itself: from blocks just tried, or from an earlier record."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bystander.archive import Archive
from bystander.design import Record, RecordHead, Status, Study, TrialOutcome, workload_key
from bystander.errors import UsageError
from bystander.flow.pace import BETWEEN_S
from bystander.flow.rehearsal import Tried
from bystander.flow.trial_blocks import TrialBlock
from bystander.stats import median
from bystander.verdicts import Noise, noises

__all__ = ["TIMES", "earlier_noise", "record_noise", "record_to_tell", "tried_noise"]

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
    wanted = {places[key]: w for w, one in enumerate(study.workloads) if (key := workload_key(one)) in places}
    arms = len(study.arms) / len(record.head.study.arms)
    return tuple(
        replace(one, workload=wanted[one.workload], block_s=one.block_s * arms)
        for one in noises(record, (*TIMES, study.measure))
        if one.workload in wanted
    )


def earlier_noise(study: Study, archive: Path, name: str) -> tuple[RecordHead, tuple[Noise, ...]]:
    """Return the head of a record, and the noise of workloads of the study in it.

    Raises
    ------
    ArchiveError, UsageError
        When there is no such record, or it has no blocks of these workloads to tell from.
    """
    with Archive(archive) as kept:
        record = kept.load(name)
    if found := record_noise(study, record):
        return record.head, found
    raise UsageError(
        f"--noise-of: record {record.head.name} tells nothing of the noise of these workloads; that takes three blocks "
        "of two arms without a failure, of a workload with the same command and inputs"
    )


def record_to_tell(study: Study, archive: Path, host: str) -> str:
    """Return the newest complete record of workloads of the study that was observed on a host, "" for none."""
    keys = {workload_key(workload) for workload in study.workloads}
    with Archive(archive) as kept:
        for head in reversed(kept.heads()):
            same = head.origin == "observed" and head.complete and head.machine.get("host") == host
            if same and keys & set(head.workload_keys):
                return head.name
    return ""
