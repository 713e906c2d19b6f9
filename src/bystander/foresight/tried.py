"""What was tried before an observation: single trials, and blocks in which the reference ran against itself."""

from __future__ import annotations

from dataclasses import dataclass

from bystander.design import Comparison, Status, TrialOutcome

__all__ = ["FEWEST_BLOCKS", "MOST_BLOCKS", "AnswerDifference", "TrialBlock", "Tried"]

FEWEST_BLOCKS, MOST_BLOCKS = 4, 8  # that are tried


@dataclass(frozen=True)
class Tried:
    """One workload tried once under one arm."""

    workload: int
    arm: int
    outcome: TrialOutcome

    @property
    def well(self) -> bool:
        """Whether it ended well."""
        return self.outcome.status is Status.OK


@dataclass(frozen=True)
class AnswerDifference:
    """A workload whose candidate answered differently; the lines of a short diff.

    Attributes
    ----------
    varies : bool
        Whether an arm does not answer alike by itself, so that nothing is told by it.
    """

    workload: int
    comparison: Comparison
    lines: tuple[str, ...]
    varies: bool = False


@dataclass(frozen=True)
class TrialBlock:
    """One workload under the reference twice, and under all candidates where that was asked for.

    Attributes
    ----------
    twins : pair of TrialOutcome
        The reference, and the placebo or the reference again.
    seconds : float
        What the block would take in the observation: all arms once, with everything between.
    """

    workload: int
    twins: tuple[TrialOutcome, TrialOutcome]
    seconds: float
