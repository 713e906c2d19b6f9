"""Runs and blocks: a record holds stretches of observing, inspecting or counting, and each holds blocks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from bystander.design.records.outcomes import TrialOutcome
from bystander.design.records.words import TIMED, State

__all__ = ["SEARCH", "BlockHead", "BlockRun", "Run", "is_part_of_search"]

# The option that the runs of a search have: that of the timed one tells the commits, the others which part they are.
SEARCH = "bisect"


@dataclass(frozen=True)
class Run:
    """A stretch within a record, whose trials have one purpose.

    Attributes
    ----------
    number : int
        Within its record, from 0.
    purpose : str
        `TIMED`, or any other word: only trials of timed runs reach a verdict.
    seed : int
        Decides the order of its blocks and arms.
    order : str
        How a block's arms are ordered, see `plan.ORDERS`; runs of before keep what they had.
    machine : int
        Where it began: a position among the record's machines. A run that was resumed may go on on another one.
    options : mapping
        What it was asked for besides what the study says, as plain values.
    began_wall_s, ended_wall_s : float or None
        Seconds since 1970; None while it was not ended, or where nobody knows.
    """

    number: int = 0
    purpose: str = TIMED
    seed: int = 0
    order: str = "digest"
    machine: int = 0
    options: Mapping[str, Any] = field(default_factory=dict)
    began_wall_s: float | None = None
    ended_wall_s: float | None = None
    state: State = State.RUNNING


@dataclass(frozen=True)
class BlockHead:
    """A block that is whole, without its trials; numbers count from 0.

    Attributes
    ----------
    run, workload, machine : int
        Positions in the record.
    attempt : int
        Which of its attempts is whole.
    conditions : mapping
        What was drawn for it, alike for all its arms.
    """

    run: int
    workload: int
    number: int
    attempt: int = 0
    machine: int = 0
    conditions: Mapping[str, int] = field(default_factory=dict)


@dataclass(frozen=True)
class BlockRun:
    """A block as it ran, once.

    Attributes
    ----------
    workload, machine : int
        Positions in the record.
    outcomes : mapping
        By arm, as positions in the study, in the order in which they ran.
    took_s : float
        From before its first trial to after its last, in seconds.
    disturbed : str
        Why it was no fair run, as a clause: the machine slept in it, say. "" where it was one.
    """

    workload: int
    number: int
    attempt: int
    machine: int
    conditions: Mapping[str, int]
    outcomes: Mapping[int, TrialOutcome]
    took_s: float = 0.0
    disturbed: str = ""


def is_part_of_search(run: Run) -> bool:
    """Whether a run beside the timed one holds blocks of a search, which its answer is worked out from."""
    return run.purpose != TIMED and isinstance(run.options.get(SEARCH), Mapping)
