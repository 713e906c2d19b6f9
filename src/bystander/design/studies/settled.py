"""What somebody settled of a row: a change that is accepted, why, up to what size and until when."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

__all__ = ["ACCEPTED", "Settled"]

ACCEPTED = "accepted"


@dataclass(frozen=True)
class Settled:
    """A fate of one row of a study.

    Attributes
    ----------
    study : str
        The study's name.
    workload, arm, measure : str
        Of the row: its workload, the candidate, and the measure.
    fate : str
        `ACCEPTED`.
    because : str
        The reason, in the user's words.
    day : date
        When it was settled.
    record, evidence : str
        On which record, and what that said of the row.
    up_to : float
        How much worse the row may be: a share (0.31: 31 %), or an amount in the measure's unit.
    relative : bool
        Whether `up_to` is a share.
    until : date or None
        The last day on which it holds.
    """

    study: str
    workload: str
    arm: str
    measure: str
    fate: str
    because: str
    day: date
    record: str
    evidence: str
    up_to: float
    relative: bool = True
    until: date | None = None

    @property
    def row(self) -> tuple[str, str, str]:
        """What tells the row from others of its study."""
        return self.workload, self.arm, self.measure
