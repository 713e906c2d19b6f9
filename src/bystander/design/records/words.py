"""The words of a record that are chosen from a few."""

from __future__ import annotations

from enum import IntEnum, StrEnum

__all__ = ["ONLY_INSPECTED", "TIMED", "Origin", "Provenance", "State", "Status"]

# The purpose of a run whose trials reach a verdict. Purposes are an open set: "inspected", "counted", "delayed", ...
TIMED = "timed"
ONLY_INSPECTED = "only_inspected"  # an option of a timed run that stays empty


class State(StrEnum):
    """How far a record or a run is; RUNNING also after a kill: nobody lived to say otherwise."""

    RUNNING = "running"
    COMPLETE = "complete"
    INTERRUPTED = "interrupted"


class Origin(StrEnum):
    """Who ran the trials of a record: Bystander, or somebody who wrote a file of readings."""

    OBSERVED = "observed"
    IMPORTED = "imported"


class Provenance(StrEnum):
    """How a record came into its archive: OWN was observed by the archive's own user."""

    OWN = ""
    IMPORTED = "imported"
    MENDED = "mended"
    MERGED = "merged"


class Status(IntEnum):
    """How a trial ended."""

    OK = 0
    EXIT = 1
    SIGNAL = 2
    CUT = 3
    NOT_STARTED = 4
    INVALID = 5
    FLOOD = 6

    @property
    def text(self) -> str:
        """The word for it in files and tables."""
        return _STATUS_WORDS[self]


_STATUS_WORDS = {
    Status.OK: "ok",
    Status.EXIT: "exit",
    Status.SIGNAL: "signal",
    Status.CUT: "cut",
    Status.NOT_STARTED: "not-started",
    Status.INVALID: "invalid",
    Status.FLOOD: "flood",
}
