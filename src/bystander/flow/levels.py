"""`bystander records levels`: how much samples, trials, blocks and records of one code differ."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bystander.archive import Archive
from bystander.design import Record, RecordHead
from bystander.stats import between_groups
from bystander.units import counted, share_text
from bystander.verdicts import Spread, spreads

__all__ = ["LevelsFound", "level_text", "levels_json", "of_text", "record_levels", "sentences"]

_MOST_RECORDS = 30  # the newest ones


@dataclass(frozen=True)
class LevelsFound:
    """Levels of one workload.

    Attributes
    ----------
    workload : str
    spread : Spread
        Within the record.
    records : float
        How much records of the same reference and workload differ beyond their errors, on the log scale; NaN for one.
    of_records : int
        How many there are, this one included.
    """

    workload: str
    spread: Spread
    records: float
    of_records: int

    @property
    def largest(self) -> str:
        """The level on which the code differs most; "" where there is too little to tell."""
        known = {
            "samples": self.spread.samples, "trials": self.spread.trials, "blocks": self.spread.blocks,
            "records": self.records,
        }  # fmt: skip
        known = {name: value for name, value in known.items() if math.isfinite(value)}
        return max(known, key=lambda name: known[name], default="")


_FOLLOWS = {
    "samples": "Samples of a trial differ most, so check says how many of them pay",
    "trials": "Trials of a block differ most, so only more blocks help",
    "blocks": "Blocks differ most, which comparing within blocks takes away",
    "records": "Records differ most, so compare within a record, never with one of another hour",
    "": "There are too few blocks to tell",
}


def sentences(found: Sequence[LevelsFound]) -> list[str]:
    """Return what follows: what a repetition helps against, and what it does not, with the workloads concerned."""
    told = []
    for level, text in _FOLLOWS.items():
        names = [one.workload for one in found if one.largest == level]
        if names:
            told.append(f"{text}: {', '.join(names)}.")
    return told


def record_levels(archive: Path, name: str | None) -> tuple[RecordHead, tuple[LevelsFound, ...]]:
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
    same = other.arms[0].key == head.arms[0].key and other.machine.get("host") == head.machine.get("host")
    shared = set(other.workload_keys) & set(head.workload_keys)
    return same and other.uuid != head.uuid and other.complete and bool(shared)


def _found(record: Record, spread: Spread, means: list[tuple[float, float]]) -> LevelsFound:
    middles, errors = np.array(means).T
    name = record.head.study.workloads[spread.workload].name
    return LevelsFound(name, spread, between_groups(middles, errors), len(means))


def levels_json(head: RecordHead, found: tuple[LevelsFound, ...]) -> str:
    """Return the levels as one JSON document; null where there is too little to tell."""
    workloads = [
        {
            "workload": one.workload, "samples": _number(one.spread.samples), "trials": _number(one.spread.trials),
            "blocks": _number(one.spread.blocks), "records": _number(one.records), "of_blocks": one.spread.counted,
            "of_records": one.of_records, "largest": one.largest or None,
        }
        for one in found
    ]  # fmt: skip
    document = {"format": "bystander.levels", "version": 1, "record": head.name, "workloads": workloads}
    return json.dumps(document, indent=2, ensure_ascii=False)


def _number(spread: float) -> float | None:
    """Return a spread as a share."""
    return math.expm1(spread) if math.isfinite(spread) else None


def level_text(spread: float) -> str:
    """Return a spread as people read it."""
    return share_text(math.expm1(spread), 2) if math.isfinite(spread) else "-"


def of_text(one: LevelsFound) -> str:
    """Return how much the levels were read from."""
    return f"{counted(one.spread.counted, 'block')}, {counted(one.of_records, 'record')}"
