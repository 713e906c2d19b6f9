"""How what was settled of a row stands on the day of deciding."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from bystander.design import Settled

__all__ = ["ACCEPTED_NOTE", "SettledRow", "Standing"]

ACCEPTED_NOTE = "accepted"


class Standing(StrEnum):
    """Whether an acceptance holds."""

    ACCEPTED = "accepted"
    OVER = "over"  # its last day is past
    BEYOND = "beyond"  # the row is shown to be worse than was accepted
    IDLE = "idle"  # there is nothing to accept


class SettledRow(NamedTuple):
    """What was settled of a row that is shown, and how it stands."""

    entry: Settled
    standing: Standing
