"""What one trial left behind."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from bystander.design.measures import Measure
from bystander.design.records.evidence import Evidence
from bystander.design.records.words import Status

__all__ = ["TrialOutcome"]


@dataclass(frozen=True)
class TrialOutcome:
    """What one trial left behind.

    Attributes
    ----------
    status : Status
    detail : int
        Exit code, signal number or error number, by the status.
    started_wall_s, started_monotonic_s : float
        On the wall clock (since 1970) and the monotonic clock, in seconds.
    readings : mapping
        By measure name, in SI units; NaN where it could not be read.
    answer : str
        Digest of standard output.
    excerpt : str
        The first lines of what a failed trial printed.
    left_behind : int
        Processes that outlived the trial and were ended.
    samples : mapping
        By measure name: values of each sample of a callable, per iteration, in the order in which they were
        taken.
    harness : mapping
        What timed a callable: iterations of a sample, and what its loop and clock cost, in ns.
    process_s : float or None
        How long the process of a callable lived, whose `elapsed` is that of one iteration.
    measures : mapping
        By name: those of its readings that are not read of every trial.
    evidence : tuple of Evidence
        What it told beside its readings, one packet of a kind.
    disturbed : str
        Why the block that it is part of is run again, as a clause; "" where there is no reason. It is not kept.
    """

    status: Status
    detail: int
    started_wall_s: float
    started_monotonic_s: float
    readings: Mapping[str, float]
    answer: str = ""
    excerpt: str = ""
    left_behind: int = 0
    samples: Mapping[str, Sequence[float]] = field(default_factory=dict)
    harness: Mapping[str, float] = field(default_factory=dict)
    process_s: float | None = None
    measures: Mapping[str, Measure] = field(default_factory=dict)
    evidence: tuple[Evidence, ...] = ()
    disturbed: str = ""

    @property
    def how(self) -> str:
        """How it ended, in words: "ok", "exit 3"."""
        return f"{self.status.text} {self.detail}" if self.detail else self.status.text

    def invalid(self, reason: str) -> TrialOutcome:
        """Return a trial without a valid reading, for a reason of its own."""
        return replace(self, status=Status.INVALID, answer="", excerpt=reason)

    def summary(self, kind: str) -> Mapping[str, Any] | None:
        """Return the summary of its evidence of a kind, None where there is none."""
        return next((one.summary for one in self.evidence if one.kind == kind), None)

    @property
    def took_s(self) -> float:
        """How long its process lived, in seconds; 0 when it never started."""
        return self.readings.get("elapsed", 0.0) if self.process_s is None else self.process_s

    @property
    def timer_share(self) -> float:
        """What loop and clock take of a sample of a callable, as a share; 0 for a command."""
        elapsed = sorted(self.samples.get("elapsed", ()))
        cost = self.harness.get("loop_ns", 0.0) + self.harness.get("clock_ns", 0.0)
        sample_ns = elapsed[len(elapsed) // 2] * 1e9 * self.harness.get("iterations", 1) if elapsed else 0.0
        return cost / (sample_ns + cost) if sample_ns > 0 else 0.0
