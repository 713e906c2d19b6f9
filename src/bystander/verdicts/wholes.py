"""What is said of all workloads together: the whole load, and the suite's geometric mean."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

from bystander.stats import SumsRatio

__all__ = ["LoadPart", "SumsOfLoad", "Whole"]


class LoadPart(NamedTuple):
    """One workload of the whole load.

    Attributes
    ----------
    runs : float
        How often it counts: its weight times its scale.
    seconds : float
        Its part of the reference's load: runs times the mean of its reference trials.
    share : float
        The same over the whole of the load, as it was measured.
    ratio, low, high : float
        Candidate over reference, freed of what stopping at a look does to it, with the ends that the whole took.
    contribution : float
        Share times (ratio - 1): the change of the whole that is its doing.
    uncertainty : float
        Its share of the square of the whole's interval.
    """

    workload: str
    runs: float
    seconds: float
    share: float
    ratio: float
    low: float
    high: float
    contribution: float
    uncertainty: float


@dataclass(frozen=True)
class SumsOfLoad:
    """The ratio of plain sums over the same blocks, to be held beside the ratio of typical times.

    Freed in the same way of what stopping at looks does: in a suite of 100 workloads that all got 6 % slower its
    interval at 95 % would otherwise hold in 62 % of cases.

    Attributes
    ----------
    left_out : int
        Blocks left out in which a trial failed.
    rare_slow : bool
        Whether it lies outside the interval of the ratio of typical times: a few slow trials make the difference.
    """

    sums: SumsRatio
    left_out: int
    rare_slow: bool


@dataclass(frozen=True)
class Whole:
    """A candidate against a reference over all workloads that count.

    Attributes
    ----------
    ratio, low, high : float
        Candidate over reference and its interval; NaN where a workload prevents it.
    confidence : float
        Level of the interval, of this one alone.
    workloads : tuple of str
        Those in it.
    other_answer, failed : tuple of str
        Left out: another answer that nobody accepted, or failed.
    prevented : tuple of (str, str)
        Workloads that ought to be in it and make a total impossible, each with why.
    seconds : float
        The reference's load, in seconds; NaN for a geometric mean.
    per : str
        In which span that is; "" where the study does not say.
    parts : tuple of LoadPart
        The largest worsening first; empty for a geometric mean.
    without_weight : tuple of str
        Those that the study gives no weight.
    sums : SumsOfLoad or None
    """

    arm: str
    against: str
    ratio: float
    low: float
    high: float
    confidence: float
    workloads: tuple[str, ...]
    other_answer: tuple[str, ...] = ()
    failed: tuple[str, ...] = ()
    prevented: tuple[tuple[str, str], ...] = ()
    seconds: float = math.nan
    per: str = ""
    parts: tuple[LoadPart, ...] = ()
    without_weight: tuple[str, ...] = ()
    sums: SumsOfLoad | None = None

    @property
    def known(self) -> bool:
        """Whether there is a total."""
        return math.isfinite(self.ratio)

    @property
    def saved(self) -> tuple[float, float, float]:
        """Seconds that the candidate takes less than the reference, with the ends of the interval."""
        return self._saved(self.ratio), self._saved(self.high), self._saved(self.low)

    def _saved(self, ratio: float) -> float:
        return (1 - ratio) * self.seconds
