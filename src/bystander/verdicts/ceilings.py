"""What is said of a ceiling under one arm."""

from __future__ import annotations

from typing import NamedTuple

from bystander.design import Ceiling, Measure
from bystander.verdicts.words import CeilingVerdict

__all__ = ["SESSIONS_ENOUGH", "CeilingRow"]

SESSIONS_ENOUGH = 100  # with 20 that differ by a trial's own spread, "holds" is said falsely of 9 % instead of 5 %


class CeilingRow(NamedTuple):
    """One ceiling under one arm.

    Attributes
    ----------
    measure : Measure
    trials : int
        That count.
    beyond : int
        Of them, above the limit, or failed, or possibly above it.
    failed, unread : int
        Trials that failed; and good ones in which the measure was not read, which do not count.
    p_holds, p_broken : float
        Exact one-sided p over all looks, that so few, or so many, are beyond by luck; of independent trials.
    p_adjusted : float
        The smaller of them after Holm (1979) over all ceilings of the record.
    verdict : CeilingVerdict
    serial_z : float
        By how many standard errors trials resemble the one before; NaN for fewer than 12, and memory of few sizes.
    dependent : bool
        Whether that is more than luck would give in one of a hundred.
    sessions : int
        Over so many sessions the trials are spread, that is between pauses as long as was asked for.
    looked_at : bool
        Whether a look was reached.
    in_all : pair of int
        Trials beyond it, and those that count, also after the look that decided it.
    """

    workload: str
    arm: str
    ceiling: Ceiling
    measure: Measure
    trials: int
    beyond: int
    failed: int
    unread: int
    p_holds: float
    p_broken: float
    p_adjusted: float
    verdict: CeilingVerdict
    serial_z: float
    dependent: bool
    sessions: int
    looked_at: bool
    in_all: tuple[int, int] = (0, 0)

    @property
    def doubtful(self) -> bool:
        """Whether it holds for the minutes of the observation only: trials depend on each other, in few sessions."""
        return self.dependent and self.sessions < SESSIONS_ENOUGH
