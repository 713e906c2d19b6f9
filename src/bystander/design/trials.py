"""Trials and records as frozen types, column by column, ready for arrays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from functools import cached_property
from typing import TYPE_CHECKING, Any

from bystander.design.measures import Measure
from bystander.design.study import Study
from bystander.design.timeline import Timeline, Told

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

__all__ = ["ArmState", "LookTaken", "Record", "RecordHead", "Status", "TrialArray", "TrialOutcome", "Trials"]


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
        By name: what its program told of itself, besides the measures that are read of every trial.
    told : Told or None
        The same as it was told, with its phases over time.
    told_summary : mapping
        "problems": what was wrong, and how often; "labels": by phase, the seconds of each of its labels;
        "instances": how many instances of phases there are.
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
    told: Told | None = None
    told_summary: Mapping[str, Any] = field(default_factory=dict)

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


@dataclass(frozen=True)
class ArmState:
    """An arm as it was found or made.

    Attributes
    ----------
    key : str
        See `keys.arm_key`.
    folder : str
        The absolute working directory of its trials.
    identity : str
        What a reader should know it by: a commit, "working tree", a folder.
    facts : mapping
        Everything else that was recorded: tree, commit, interpreter, environment, commands.
    """

    name: str
    key: str
    folder: str
    identity: str
    facts: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class RecordHead:
    """A record without its trials.

    Attributes
    ----------
    origin : str
        "observed" or "imported".
    state : str
        "complete", "interrupted", or "running" (also after a kill: nobody lived to say otherwise).
    started_wall_s : float
        Seconds since 1970.
    notes : tuple of str
        Sentences that every output repeats.
    study_file : str
        The name of the study's file in its folder; "" without one.
    provenance : str
        "" for what was observed by the archive's own user; "imported", "mended" or "merged".
    """

    uuid: str
    name: str
    origin: str
    state: str
    started_wall_s: float
    study: Study
    study_folder: str
    arms: tuple[ArmState, ...]
    workload_keys: tuple[str, ...]
    measures: tuple[Measure, ...]
    machine: Mapping[str, Any]
    version: str
    notes: tuple[str, ...] = ()
    study_file: str = ""
    provenance: str = ""

    @property
    def resumable(self) -> bool:
        """Whether it can be finished: what somebody else's file says is never run."""
        return self.origin == "observed" and not self.complete and not self.provenance

    @property
    def complete(self) -> bool:
        """Whether every planned trial ended."""
        return self.state == "complete"


@dataclass(frozen=True)
class Trials:
    """All trials of a record whose attempts are whole, column by column; n rows.

    Attributes
    ----------
    workload, arm, block, order : ndarray of int, shape (n,)
        Positions in the study; block and order are -1 where the trial belongs to no block.
    status : ndarray of int, shape (n,)
        Values of `Status`.
    limit_s : ndarray of float, shape (n,)
        Where a cut trial was cut, NaN elsewhere.
    readings : ndarray of float, shape (n, k)
        One column per measure of the record, NaN where nothing was read.
    answers : ndarray of int, shape (n,)
        Equal numbers stand for equal answers; -1 where none was kept.
    started_s : ndarray of float, shape (n,)
        Wall time, NaN where unknown.
    details : ndarray of int, shape (n,)
    machine : ndarray of int, shape (n,)
        Which of the record's machines it ran on, counted from 0.
    """

    workload: NDArray[np.int64]
    arm: NDArray[np.int64]
    block: NDArray[np.int64]
    order: NDArray[np.int64]
    status: NDArray[np.int64]
    limit_s: NDArray[np.float64]
    readings: NDArray[np.float64]
    answers: NDArray[np.int64]
    started_s: NDArray[np.float64]
    details: NDArray[np.int64]
    machine: NDArray[np.int64]

    @cached_property
    def failed(self) -> NDArray[np.bool_]:
        """Which trials did not end well, shape (n,)."""
        failed: NDArray[np.bool_] = self.status != int(Status.OK)  # comparing with the enumeration itself is slow
        return failed

    def __len__(self) -> int:
        return int(self.workload.size)


@dataclass(frozen=True)
class LookTaken:
    """One look at one comparison while it was observed: kept for whoever asks; a decision works it out again.

    Attributes
    ----------
    workload, arm : int
        Positions in the study.
    blocks : int
        After so many.
    level : float
        The nominal level of the look at the study's risk.
    outcome : str
        "goes-on", or why it stopped: "changed", "same", "fails-more" or "most-blocks".
    """

    workload: int
    arm: int
    blocks: int
    level: float
    outcome: str


@dataclass(frozen=True)
class Record:
    """A record: its head and its trials.

    Attributes
    ----------
    samples : mapping
        By (row of trials, measure name): all values of a trial whose reading is their median.
    excerpts : mapping
        By row of trials: what a failed trial printed first.
    machine_states : sequence of mapping
        The machine from time to time while it was observed; see `stretches`.
    told : mapping
        By row of trials: what was wrong with its marks, and its phases in short; see `TrialOutcome`.
    timelines : mapping
        By row of trials: its phases, where they were asked for.
    looks : sequence of LookTaken
        In the order in which they were taken.
    """

    head: RecordHead
    trials: Trials
    samples: Mapping[tuple[int, str], NDArray[np.float64]] = field(default_factory=dict)
    excerpts: Mapping[int, str] = field(default_factory=dict)
    machine_states: Sequence[Mapping[str, Any]] = ()
    told: Mapping[int, Mapping[str, Any]] = field(default_factory=dict)
    timelines: Mapping[int, Timeline] = field(default_factory=dict)
    looks: Sequence[LookTaken] = ()

    def reads(self, *measures: str) -> bool:
        """Whether all of these measures have a column of readings."""
        return set(measures) <= {measure.name for measure in self.head.measures}

    def column(self, measure: str) -> NDArray[np.float64]:
        """Return the readings of a measure by its name, shape (n,), NaN where nothing was read.

        Raises
        ------
        KeyError
            When the record has no such measure; see `reads`.
        """
        for place, one in enumerate(self.head.measures):
            if one.name == measure:
                return self.trials.readings[:, place]
        raise KeyError(measure)


@dataclass(frozen=True)
class TrialArray:
    """Trials of one workload under one arm that are written at once; arrays of n rows.

    Attributes
    ----------
    block, order, status, detail, limit_s, started_s, machine : ndarray, shape (n,)
        As in `Trials`.
    readings : ndarray, shape (n, k)
        One column per measure of the record, NaN where nothing was read.
    samples : sequence of (row, measure, ndarray)
        All values of trials that have several.
    answers, excerpts : mapping
        By row: digest of the answer, and what a failed trial printed.
    told : mapping
        By row: what its program told, as in `Record.told` and `Record.timelines`.
    """

    workload: int
    arm: int
    block: NDArray[np.int64]
    order: NDArray[np.int64]
    status: NDArray[np.int64]
    detail: NDArray[np.int64]
    limit_s: NDArray[np.float64]
    started_s: NDArray[np.float64]
    readings: NDArray[np.float64]
    machine: NDArray[np.int64]
    samples: Sequence[tuple[int, int, NDArray[np.float64]]] = ()
    answers: Mapping[int, str] = field(default_factory=dict)
    excerpts: Mapping[int, str] = field(default_factory=dict)
    told: Mapping[int, tuple[Mapping[str, Any], Timeline]] = field(default_factory=dict)
