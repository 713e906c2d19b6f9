"""A ladder: the edits of a chain one by one, each with its own gain, and how far they had come by then."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

from bystander.design import ChainKind, Link, Measure, RecordHead
from bystander.verdicts.types import Row
from bystander.verdicts.wholes import Whole
from bystander.verdicts.words import Scale

__all__ = ["Disagreement", "Ladder", "Rung", "SoFar"]


class SoFar(NamedTuple):
    """A state against the first one, in the same blocks: the direct pair, never a product of links.

    Attributes
    ----------
    estimate, low, high : float
        On the row's scale, with its interval at one minus the risk, of this state alone; NaN and infinite where
        unbounded.
    median : float
        Of the state's trials that ended well, in the measure's unit.
    """

    scale: Scale
    estimate: float
    low: float
    high: float
    median: float


@dataclass(frozen=True)
class Rung:
    """One edit.

    Attributes
    ----------
    number : int
        Its place in the ladder, from 1.
    record : str
        The record that measured it.
    identity : str
        What a reader should know its state by.
    rows : tuple of Row
        Its own gain in each workload, in the study's order.
    so_far : tuple of SoFar
        The state that it leads to against the first one, in the same order; empty where links have no first state.
    load, mean : Whole or None
        Its own gain over the whole load, and over all workloads alike.
    fate, because : str
        What somebody settled of it: "kept" or "dropped", and why; "" for nothing yet.
    """

    number: int
    record: str
    link: Link
    identity: str
    rows: tuple[Row, ...]
    so_far: tuple[SoFar, ...] = ()
    load: Whole | None = None
    mean: Whole | None = None
    fate: str = ""
    because: str = ""

    @property
    def together(self) -> Whole | None:
        """What all workloads say together, where there are several."""
        return self.load or self.mean


class Disagreement(NamedTuple):
    """A piece of an edit that gains otherwise by itself than on top of all the others.

    Attributes
    ----------
    p_adjusted : float
        Over all pieces and workloads (Holm 1979).
    estimate : float
        What it adds alone less what it adds last, in the measure's unit: below 0 it gains more by itself.
    """

    piece: str
    workload: str
    p_adjusted: float
    estimate: float


@dataclass(frozen=True)
class Ladder:
    """All edits of a chain.

    Attributes
    ----------
    head : RecordHead
        Of the record that the chain begins with.
    first : tuple of float
        Medians under the first state, by workload, in the measure's unit.
    total : tuple of Row
        The last state against the first, by workload; empty where links have no first state.
    total_load, total_mean : Whole or None
    blocks : int
        Blocks of each workload.
    smallest : tuple of float
        By workload: the smallest gain of a link, as a share, that so many blocks show in 8 of 10 cases; NaN where it
        is not known.
    disagree : tuple of Disagreement
        Of the pieces of one edit.
    placebo : str
        What the placebo shows, in a sentence; "" without one.
    """

    head: RecordHead
    kind: ChainKind
    measure: Measure
    margin: float
    risk: float
    rungs: tuple[Rung, ...]
    first: tuple[float, ...]
    total: tuple[Row, ...]
    total_load: Whole | None
    total_mean: Whole | None
    blocks: int
    smallest: tuple[float, ...]
    disagree: tuple[Disagreement, ...] = ()
    placebo: str = ""

    @property
    def workloads(self) -> tuple[str, ...]:
        """Names, in the study's order."""
        return tuple(workload.name for workload in self.head.study.workloads)

    @property
    def numbered(self) -> bool:
        """Whether rungs are told by their numbers; pieces have numbers of their own."""
        return self.kind is not ChainKind.PIECES

    @property
    def alone(self) -> bool:
        """Whether there is one workload, so that its rows are the links."""
        return len(self.head.study.workloads) == 1

    @property
    def first_name(self) -> str:
        """The name of the state that everything is held against."""
        return self.head.study.arms[0].name

    @property
    def seen_from(self) -> float:
        """The smallest gain that links of every workload would show, as a share; NaN where it is not known."""
        known = [value for value in self.smallest if not math.isnan(value)]
        return max(known, default=math.nan)
