"""`bystander records levels`: how much samples, trials, blocks and records of one code differ."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from bystander.archive import Archive
from bystander.design import ArmState, Record, RecordHead
from bystander.exchange import levels_json
from bystander.foresight import WorkloadLevels, level_text, levels_sentences, of_text
from bystander.stats import between_groups
from bystander.verdicts import Spread, spreads

__all__ = ["WorkloadLevels", "level_text", "levels_json", "levels_sentences", "of_text", "record_levels"]

_MOST_RECORDS = 30  # the newest ones


def record_levels(archive: Path, name: str | None) -> tuple[RecordHead, tuple[WorkloadLevels, ...]]:
    """Return the levels of a record's workloads; other records count where reference and workload are the same."""
    with Archive(archive) as kept:
        record = kept.load(name)
        alike = [head for head in kept.heads() if _comparable(head, record.head)][-_MOST_RECORDS:]
        others = [kept.load(head.name) for head in alike]
    keys = record.head.workload_keys
    means: dict[str, list[tuple[float, float]]] = {}
    for one in [record, *others]:
        for spread in spreads(one):
            means.setdefault(one.head.workload_keys[spread.workload], []).append((spread.middle, spread.error))
    return record.head, tuple(_found(record, spread, means[keys[spread.workload]]) for spread in spreads(record))


def _comparable(other: RecordHead, head: RecordHead) -> bool:
    """Whether it is another record of the same reference on the same machine."""
    same = _reference(other).key == _reference(head).key and other.machine.host == head.machine.host
    shared = set(other.workload_keys) & set(head.workload_keys)
    return same and other.uuid != head.uuid and other.complete and bool(shared)


def _found(record: Record, spread: Spread, means: list[tuple[float, float]]) -> WorkloadLevels:
    middles, errors = np.array(means).T
    name = record.head.study.workloads[spread.workload].name
    return WorkloadLevels(name, spread, between_groups(middles, errors), len(means))


def _reference(head: RecordHead) -> ArmState:
    return head.arms[head.study.reference_at]
