"""Sessions: an observation spread over hours, with the machine free in between."""

from __future__ import annotations

import math
import select
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from bystander.errors import UsageError
from bystander.field import MachineLock
from bystander.flow.observer import Observer
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.trials.blocks import StopAskedError
from bystander.units import counted, duration_text

__all__ = ["DEFAULT_APART_S", "Pauses", "Spread"]

DEFAULT_APART_S = 600.0
_TRY_S = 1.0  # between two tries for a lock that somebody else holds


@dataclass(frozen=True)
class Spread:
    """Over how many sessions the rounds of an observation are spread, and how far these are apart, in seconds."""

    sessions: int
    apart_s: float = DEFAULT_APART_S

    @property
    def options(self) -> dict[str, Any]:
        """As a run keeps it."""
        return {"sessions": self.sessions, "apart_s": self.apart_s}

    @classmethod
    def of(cls, options: Mapping[str, Any]) -> Spread | None:
        """Return what a run kept; None where it was not spread, or what an archive says of that makes no sense."""
        sessions, apart_s = options.get("sessions"), options.get("apart_s")
        if not isinstance(sessions, int) or not isinstance(apart_s, int | float):
            return None
        return cls(sessions, float(apart_s)) if sessions > 0 and 0 <= apart_s < math.inf else None

    def session(self, at: int, rounds: int) -> int:
        """Return the session of a round, both from 0."""
        return at * self.sessions // rounds

    def refuse(self, rounds: int) -> None:
        """Raise UsageError where there are more sessions than rounds."""
        if self.sessions > rounds:
            raise UsageError(
                f"--sessions: {self.sessions} sessions take as many blocks at least, and {rounds} are planned; "
                f"give --blocks {self.sessions}, or fewer sessions"
            )

    @property
    def sentence(self) -> str:
        """What is said before the first trial."""
        pauses_s = (self.sessions - 1) * self.apart_s
        return (
            f"{self.sessions} sessions, {duration_text(self.apart_s, 2)} apart: {duration_text(pauses_s, 2)} of pauses "
            "in all, in which the machine is free; a reboot ends it, and --resume --elsewhere goes on"
        )


class Pauses:
    """Lets go of the machine between two sessions, and takes it up again."""

    def __init__(
        self, spread: Spread | None, lock: MachineLock, interrupts: Interrupts, observer: Observer,
        clock: Callable[[], float],
    ) -> None:  # fmt: skip
        self._spread, self._lock, self._interrupts = spread, lock, interrupts
        self._observer, self._clock = observer, clock
        self._session: int | None = None

    def before_round(self, at: int, rounds: int) -> None:
        """Pause where a new session begins with this round; raise StopAskedError when the user asks to stop."""
        if self._spread is None:
            return
        session = self._spread.session(at, rounds)
        if self._session is not None and session != self._session:
            left = counted(self._spread.sessions - session, "session")
            apart = duration_text(self._spread.apart_s, 2)
            self._observer.doing(
                f"session {session} of {self._spread.sessions} is over; {left} left, the next in {apart}"
            )
            self._lock.release()
            until = self._clock() + self._spread.apart_s
            while (rest := until - self._clock()) > 0:
                self._wait(rest)
            while not self._lock.taken_again():
                self._wait(_TRY_S)
        self._session = session

    def _wait(self, seconds: float) -> None:
        select.select([self._interrupts.fd], [], [], seconds)
        if self._interrupts.asked:
            raise StopAskedError
