"""The rows of a family as columns: what is tested of them, and what the tests say."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from bystander.design import Measure
from bystander.stats import RowLooks
from bystander.verdicts.compared.row_readings import Batch, RowReadings, batches
from bystander.verdicts.compared.row_trials import RowTrials
from bystander.verdicts.types import Stop

__all__ = ["OTHER_TIME", "Family", "FamilyRows", "IntervalRow", "Intervals", "Tested", "TestedRow", "joined_rows"]

Floats = NDArray[np.float64]

OTHER_TIME = "cpu"  # the measure that may show a change where elapsed time does not


@dataclass(frozen=True)
class Family:
    """Rows that are adjusted together: of one comparison, or of all links of a chain.

    Attributes
    ----------
    alpha, size : float, int
        The risk, and over how many comparisons it is held.
    sharing : int
        How many comparisons share the study's risk.
    primary : bool
        Whether this is the study's measure.
    strict : float
        The level at which a change of one row alone would be shown.
    control : bool
        Whether both arms are made alike, so that no row may look changed: Holm (1979) over the rows.
    bound : float
        The one-sided level of each row's bound for a gate; NaN without one.
    every : bool
        Whether no row at all may look changed by luck: Holm (1979) over the rows.
    small : bool
        Whether a change within the margin counts as one where it is shown: of a chain's links small gains add up.
    """

    alpha: float
    size: int
    sharing: int
    primary: bool
    strict: float
    control: bool = False
    bound: float = math.nan
    small: bool = False
    every: bool = False

    @property
    def answers(self) -> bool:
        """Whether its rows answer the study's question: they are of its measure, and no placebo's."""
        return self.primary and not self.control


@dataclass(frozen=True)
class FamilyRows:
    """The rows of a family, what is tested of them, where they stopped, and how many blocks were run."""

    pairs: list[RowTrials]
    measures: list[Measure]
    readings: list[RowReadings]
    stops: list[Stop]
    looks: RowLooks
    run: list[int]

    @cached_property
    def groups(self) -> list[Batch]:
        """Rows that are examined together; a row that reached no look yet is not."""
        looked = [i for i, stop in enumerate(self.stops) if stop.look is not None]
        found = batches([self.readings[i] for i in looked])
        return [Batch(np.array(looked)[group.rows], group.contrasts) for group in found]

    @cached_property
    def look(self) -> NDArray[np.int64]:
        """The look of each row; the first where there was none."""
        return np.array([stop.look or 0 for stop in self.stops], dtype=np.int64)

    def only(self, places: Sequence[int]) -> FamilyRows:
        """Return some of them."""
        return FamilyRows(
            [self.pairs[i] for i in places],
            [self.measures[i] for i in places],
            [self.readings[i] for i in places],
            [self.stops[i] for i in places],
            self.looks.only(places),
            [self.run[i] for i in places],
        )


def joined_rows(parts: Sequence[FamilyRows]) -> FamilyRows:
    """Return the rows of several comparisons as one family."""
    if len(parts) == 1:
        return parts[0]
    return FamilyRows(
        [pair for part in parts for pair in part.pairs],
        [measure for part in parts for measure in part.measures],
        [readings for part in parts for readings in part.readings],
        [stop for part in parts for stop in part.stops],
        RowLooks([looks for part in parts for looks in part.looks.rows]),
        [run for part in parts for run in part.run],
    )


class TestedRow(NamedTuple):
    """The numbers of one row; see `Tested`."""

    estimate: float
    leans: int
    p: float
    e: float
    p_adjusted: float
    e_adjusted: float
    fails_more: float
    reference_fails: float
    attainable: bool


@dataclass(frozen=True)
class Tested:
    """The numbers of all rows of a family; arrays of one shape, NaN where nothing was tested.

    Attributes
    ----------
    fails_more, reference_fails : ndarray
        Adjusted p that the candidate, or the reference, fails more often.
    attainable : ndarray of bool
        Whether so many blocks could show anything.
    p_adjusted, e_adjusted : ndarray
        Over the family.
    accepted, accepted_same : int
        Rows shown changed, and the same.
    """

    estimate: Floats
    leans: NDArray[np.int64]
    p: Floats
    e: Floats
    p_adjusted: Floats
    e_adjusted: Floats
    fails_more: Floats
    reference_fails: Floats
    attainable: NDArray[np.bool_]
    accepted: int
    accepted_same: int

    @cached_property
    def rows(self) -> list[TestedRow]:
        """The numbers row by row."""
        columns = (
            self.estimate, self.leans, self.p, self.e, self.p_adjusted, self.e_adjusted, self.fails_more,
            self.reference_fails, self.attainable,
        )  # fmt: skip
        return list(map(TestedRow._make, zip(*(column.tolist() for column in columns), strict=True)))


class IntervalRow(NamedTuple):
    """What one row's intervals say; see `Intervals`."""

    low: float
    high: float
    reach: float
    needed: float
    worse: float


@dataclass(frozen=True)
class Intervals:
    """Ends of the rows' intervals, how far one reaches at the level of one row alone, the blocks for the margin,
    and the gate's bounds on the worse side."""

    low: Floats
    high: Floats
    reach: Floats
    needed: Floats
    worse: Floats

    @cached_property
    def rows(self) -> list[IntervalRow]:
        """The numbers row by row."""
        columns = (self.low, self.high, self.reach, self.needed, self.worse)
        return list(map(IntervalRow._make, zip(*(column.tolist() for column in columns), strict=True)))
