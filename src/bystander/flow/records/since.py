"""An earlier record beside one that is decided: both are read, and pairs of records of one code are looked for."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bystander.archive import Archive
from bystander.design import Record, RecordHead
from bystander.errors import UsageError
from bystander.verdicts import Decision, Since, decide, same_code_change, since

__all__ = ["since_record"]

_MOST_RECORDS = 60  # the newest ones, among which pairs of one code are looked for
_SIMILAR = 4.0  # pairs are up to so many times as far apart, or as near


def since_record(archive: Path, record: Record, decision: Decision, name: str) -> Since:
    """Return how a decision stands beside an earlier record.

    Raises
    ------
    UsageError
        When that is the record itself.
    """
    with Archive(archive) as kept:
        then = kept.load(name)
        if then.head.uuid == record.head.uuid:
            raise UsageError(f"--since: {name} is the record that is decided; name an earlier one")
        pairs = _pairs(kept, record, then)
    return since((record, decision), (then, decide(then)), pairs)


def _pairs(kept: Archive, now: Record, then: Record) -> dict[str, NDArray[np.float64]]:
    """Return by how much records of one code differed, by key of the workload: neighbours in time, similarly apart."""
    apart_s = abs(now.head.started_wall_s - then.head.started_wall_s)
    there = [one for one in kept.heads() if one.complete and not one.only_inspected]
    heads = [one for one in there if _machine(one) == _machine(now.head)]
    loaded: dict[str, Record] = {}

    def load(head: RecordHead) -> Record:
        if head.uuid not in loaded:
            loaded[head.uuid] = kept.load(head.uuid)
        return loaded[head.uuid]

    found: dict[str, NDArray[np.float64]] = {}
    for key in set(now.head.workload_keys) & set(then.head.workload_keys):
        with_it = [head for head in heads if key in head.workload_keys][-_MOST_RECORDS:]
        changes = []
        for arm in dict.fromkeys(state.key for head in with_it for state in head.arms if state.key):
            mine = [head for head in with_it if any(state.key == arm for state in head.arms)]
            for first, later in zip(mine[::2], mine[1::2], strict=False):
                between_s = later.started_wall_s - first.started_wall_s
                if apart_s / _SIMILAR <= between_s <= apart_s * _SIMILAR:
                    changes.append(same_code_change(load(first), load(later), key, arm))
        found[key] = np.array([change for change in changes if np.isfinite(change)])
    return found


def _machine(head: RecordHead) -> tuple[str | None, str | None]:
    return head.machine.host, head.machine.processor
