"""What is said of a record beside an earlier one: new, mended, persisting by verdict; numbers where they compare."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from bystander.design import RecordHead
from bystander.stats import HoursApart
from bystander.verdicts.types import Row

__all__ = ["Change", "Since", "SinceRow"]


class Change(StrEnum):
    """How the verdict of a row stands beside that of an earlier record; what asks for somebody first."""

    NEW = "new"  # worse now, and it was shown not to be
    NOT_SEEN_THEN = "not-seen-then"  # worse now, and it was unclear
    PERSISTING = "persisting"  # worse in both
    NOT_SEEN_NOW = "not-seen-now"  # worse then, and unclear now
    MENDED = "mended"  # worse then, and shown not to be now
    ALIKE = "alike"
    ONLY_NOW = "only-now"  # the earlier record has no such row


@dataclass(frozen=True)
class SinceRow:
    """A row of the study's measure beside that of the earlier record.

    Attributes
    ----------
    now, then : Row
        `then` is None where the earlier record has no such workload.
    apart : HoursApart or None
        How the candidate changed between the two, where that can be told.
    why : str
        Why it cannot, as a clause; "" where it can.
    """

    now: Row
    then: Row | None
    change: Change
    apart: HoursApart | None = None
    why: str = ""


@dataclass(frozen=True)
class Since:
    """A record beside an earlier one."""

    earlier: RecordHead
    rows: tuple[SinceRow, ...]

    def count(self, change: Change) -> int:
        """Return how many rows stand so."""
        return sum(row.change is change for row in self.rows)
