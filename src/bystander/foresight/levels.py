"""How much samples, trials, blocks and records of one code differ, and which repetition helps against it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from bystander.units import counted, share_text
from bystander.verdicts import Spread

__all__ = ["WorkloadLevels", "level_share", "level_text", "levels_sentences", "of_text"]


@dataclass(frozen=True)
class WorkloadLevels:
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


def levels_sentences(found: Sequence[WorkloadLevels]) -> list[str]:
    """Return what follows: what a repetition helps against, and what it does not, with the workloads concerned."""
    sentences = []
    for level, text in _FOLLOWS.items():
        names = [one.workload for one in found if one.largest == level]
        if names:
            sentences.append(f"{text}: {', '.join(names)}.")
    return sentences


def level_share(spread: float) -> float:
    """Return a spread on the log scale as a share."""
    return math.expm1(spread)


def level_text(spread: float) -> str:
    """Return a spread as people read it."""
    return share_text(math.expm1(spread), 2) if math.isfinite(spread) else "-"


def of_text(one: WorkloadLevels) -> str:
    """Return how much the levels were read from."""
    return f"{counted(one.spread.counted, 'block')}, {counted(one.of_records, 'record')}"
