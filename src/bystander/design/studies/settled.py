"""What somebody settled: a change of a row that is accepted, up to what size and until when; what a place is worth."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

__all__ = ["ACCEPTED", "DROPPED", "KEPT", "LEFT_ALONE", "LINK_FATES", "PLACE_FATES", "TRY", "Settled", "SettledLink",
           "SettledPlace"]  # fmt: skip

ACCEPTED = "accepted"
LEFT_ALONE, TRY = "leave-alone", "try"
PLACE_FATES = ("as-expected", LEFT_ALONE, "not-worth-it", TRY)
KEPT, DROPPED = "kept", "dropped"
LINK_FATES = (KEPT, DROPPED)


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


@dataclass(frozen=True)
class SettledPlace:
    """A fate of one place of a workload: it was judged once, and need not top the list again.

    Attributes
    ----------
    study, workload : str
    place, file : str
        Its label, and its file as it is shown: from the arm's folder on.
    fate : str
        Among `PLACE_FATES`.
    because : str
        The reason, in the user's words.
    day : date
        When it was settled.
    record, evidence : str
        On which inspection, and what that said of the place.
    cost_s : float
        Seconds a trial with what it calls, as that inspection saw it.
    up_to_s : float or None
        Of a lead: how many seconds more it cost at most, by its interval; None where two states were not compared.
    """

    study: str
    workload: str
    place: str
    file: str
    fate: str
    because: str
    day: date
    record: str
    evidence: str
    cost_s: float
    up_to_s: float | None = None

    @property
    def key(self) -> tuple[str, str]:
        """What tells the place from others of its workload."""
        return self.place, self.file


@dataclass(frozen=True)
class SettledLink:
    """What became of one edit of a chain: it was kept, or dropped.

    Attributes
    ----------
    study : str
    link, key : str
        The state that the edit leads to; and a digest of the keys of the arms before and after it, by which it is
        known again.
    fate : str
        Among `LINK_FATES`.
    because : str
        The reason, in the user's words.
    day : date
        When it was settled.
    record, evidence : str
        On which record, and what that said of the link.
    """

    study: str
    link: str
    key: str
    fate: str
    because: str
    day: date
    record: str
    evidence: str
