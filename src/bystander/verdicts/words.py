"""The words of a decision that are chosen from a few."""

from __future__ import annotations

from enum import StrEnum

__all__ = ["CeilingVerdict", "Order", "Pairing", "Relevance", "Scale", "StopReason", "Verdict"]


class Verdict(StrEnum):
    """What is said of a row; worst first, which is the order of rows wherever they are listed."""

    FAILED = "failed"
    SLOWER = "slower"
    MORE = "more"
    LOWER = "lower"
    UNCLEAR = "unclear"
    SAME = "same"
    HIGHER = "higher"
    LESS = "less"
    FASTER = "faster"

    @property
    def is_worse(self) -> bool:
        """Whether it says that a change was for the worse."""
        return self in (Verdict.SLOWER, Verdict.MORE, Verdict.LOWER)


class CeilingVerdict(StrEnum):
    """What is said of a ceiling; worst first."""

    BROKEN = "broken"
    UNCLEAR = "unclear"
    HOLDS = "holds"


class Scale(StrEnum):
    """How a change is told: candidate over reference, or in the measure's unit.

    Differences are of counts and shares, and of readings that are not all above zero.
    """

    RATIO = "ratio"
    DIFFERENCE = "difference"


class Order(StrEnum):
    """In which order rows stand."""

    WORST = "worst"  # by verdict, then by size
    CONTRIBUTION = "contribution"  # by what they add to the whole load


class Pairing(StrEnum):
    """Whether trials are compared block by block, or all with all."""

    BLOCKS = "blocks"
    NONE = "none"


class Relevance(StrEnum):
    """Where an interval lies with respect to the margin."""

    BEYOND = "beyond"
    WITHIN = "within"
    UNDETERMINED = "undetermined"


class StopReason(StrEnum):
    """Why a row stopped, or that it has not."""

    CHANGED = "changed"
    SAME = "same"
    FAILS_MORE = "fails-more"
    MOST_BLOCKS = "most-blocks"
    FIXED = "fixed"  # there were no looks
    UNFINISHED = "unfinished"  # at the last look that was reached
    BEFORE_FIRST_LOOK = "before-first-look"

    @property
    def final(self) -> bool:
        """Whether no more blocks are needed."""
        return self not in (StopReason.UNFINISHED, StopReason.BEFORE_FIRST_LOOK)
