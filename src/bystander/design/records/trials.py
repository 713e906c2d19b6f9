"""Trials and records as frozen types, column by column, ready for arrays."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

from bystander.design.measures import Measure
from bystander.design.records.evidence import Evidence, Whose
from bystander.design.records.facts import ArmFacts, MachineFacts, MachineState
from bystander.design.records.runs import SEARCH, BlockHead, Run
from bystander.design.records.words import ONLY_INSPECTED, TIMED, Origin, Provenance, State, Status
from bystander.design.studies.comparisons import Comparison
from bystander.design.studies.study import Study

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

__all__ = [
    "ArmState", "LookTaken", "Record", "RecordHead", "RunTrials", "TrialArray", "TrialColumns", "Trials",
    "refuse_strays", "run_name",
]  # fmt: skip


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
    facts : ArmFacts
        Everything else that was recorded.
    """

    name: str
    key: str
    folder: str
    identity: str
    facts: ArmFacts = field(default_factory=ArmFacts)


@dataclass(frozen=True)
class RecordHead:
    """A record without its trials.

    Attributes
    ----------
    started_wall_s : float
        Seconds since 1970.
    machines : tuple of MachineFacts
        Where its trials ran, the one on which it began first; empty where nobody knows.
    notes : tuple of str
        Sentences that every output repeats.
    study_file : str
        The name of the study's file in its folder; "" without one.
    runs : tuple of Run
        The stretches that it holds; the timed one first.
    """

    uuid: str
    name: str
    origin: Origin
    state: State
    started_wall_s: float
    study: Study
    study_folder: str
    arms: tuple[ArmState, ...]
    workload_keys: tuple[str, ...]
    measures: tuple[Measure, ...]
    machines: tuple[MachineFacts, ...]
    version: str
    notes: tuple[str, ...] = ()
    study_file: str = ""
    provenance: Provenance = Provenance.OWN
    runs: tuple[Run, ...] = ()

    @property
    def machine(self) -> MachineFacts:
        """The machine on which it began."""
        return self.machines[0] if self.machines else MachineFacts()

    @property
    def observed_here(self) -> bool:
        """Whether the archive's own user observed it: what somebody else's file says is never run."""
        return self.origin == Origin.OBSERVED and self.provenance == Provenance.OWN

    @property
    def is_search(self) -> bool:
        """Whether it is a search for a commit."""
        return SEARCH in self.timed_run.options

    @property
    def shown_by(self) -> str:
        """The command that shows what it is for."""
        if self.only_inspected:
            return "leads"
        if self.is_search:
            return "bisect"
        return "chain" if self.study.chain else "decide"

    @property
    def resumable(self) -> bool:
        """Whether it can be finished."""
        return self.observed_here and not self.complete

    @property
    def complete(self) -> bool:
        """Whether every planned trial ended."""
        return self.state == State.COMPLETE

    @property
    def only_inspected(self) -> bool:
        """Whether it was begun for inspections alone, and has no timed trials."""
        return bool(self.timed_run.options.get(ONLY_INSPECTED))

    @property
    def timed_run(self) -> Run:
        """The run whose trials reach a verdict; one made up from the study where none was kept."""
        made_up = Run(seed=self.study.seed or 0, began_wall_s=self.started_wall_s, state=self.state)
        return next((run for run in self.runs if run.purpose == TIMED), made_up)


def run_name(head: RecordHead, run: Run) -> str:
    """Return the name of a run that is not the timed one: tides-3/inspected-2 is the second inspection of tides-3."""
    before = sum(1 for one in head.runs if one.purpose == run.purpose and one.number <= run.number)
    return f"{head.name}/{run.purpose}-{before}"


@dataclass(frozen=True)
class TrialColumns:
    """Trials whose attempts are whole, column by column; n rows.

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

    @cached_property
    def by_cell(self) -> Mapping[tuple[int, int], NDArray[np.int64]]:
        """The rows of each workload under each arm that has any, in their order."""
        import numpy as np

        if not len(self):
            return {}
        arms = int(self.arm.max()) + 1
        cells = self.workload * arms + self.arm
        order = np.argsort(cells, kind="stable")
        present, starts = np.unique(cells[order], return_index=True)
        parts = np.split(order, starts[1:])
        return {divmod(cell, arms): part for cell, part in zip(present.tolist(), parts, strict=True)}

    def __len__(self) -> int:
        return int(self.workload.size)


class Trials(TrialColumns):
    """All trials of a record's timed run: the only ones that reach a verdict."""


def refuse_strays(head: RecordHead, trials: TrialColumns) -> None:
    """Raise ValueError where a column of trials, from whatever file, holds a number that stands for nothing."""
    if not len(trials):
        return
    for name, column, least, most in (
        ("workload", trials.workload, 0, len(head.study.workloads)), ("arm", trials.arm, 0, len(head.study.arms)),
        ("status", trials.status, 0, len(Status)), ("machine", trials.machine, 0, max(1, len(head.machines))),
        ("block", trials.block, -1, 2**53), ("order", trials.order, -1, 2**53),
    ):  # fmt: skip
        if column.min() < least or column.max() >= most:
            raise ValueError(f"trials.{name} holds a number that stands for nothing")
    if (abs(trials.readings) == math.inf).any():
        raise ValueError("a reading is beyond all numbers")


@dataclass(frozen=True)
class RunTrials:
    """The trials of a run of another purpose: evidence, and no verdict on time takes them."""

    head: RecordHead
    run: Run
    blocks: tuple[BlockHead, ...]
    trials: TrialColumns
    evidence: Mapping[int, tuple[Evidence, ...]] = field(default_factory=dict)


@dataclass(frozen=True)
class LookTaken:
    """One look at one comparison while it was observed: kept for whoever asks; a decision works it out again.

    Attributes
    ----------
    workload : int
        Position in the study.
    blocks : int
        After so many.
    level : float
        The nominal level of the look at the study's risk.
    outcome : str
        "goes-on", or why it stopped: "changed", "same", "fails-more" or "most-blocks".
    """

    workload: int
    comparison: Comparison
    blocks: int
    level: float
    outcome: str


@dataclass(frozen=True)
class Record:
    """A record: its head and the trials of its timed run.

    Attributes
    ----------
    samples : mapping
        By (row of trials, measure name): all values of a trial whose reading is their median.
    excerpts : mapping
        By row of trials: what a failed trial printed first.
    machine_states : sequence of MachineState
        The machine from time to time while it was observed; see `stretches`.
    evidence : mapping
        By row of trials: what it told beside its readings; payloads where they were asked for.
    of_runs : mapping
        Evidence that is of no single trial.
    looks : sequence of LookTaken
        In the order in which they were taken.
    blocks : tuple of BlockHead
        The whole blocks of all runs, with the machine and conditions of each.
    of_search : mapping
        Of a search for a commit, by the number of each of its runs beside the timed one: its trials, where they were
        asked for.
    """

    head: RecordHead
    trials: Trials
    samples: Mapping[tuple[int, str], NDArray[np.float64]] = field(default_factory=dict)
    excerpts: Mapping[int, str] = field(default_factory=dict)
    machine_states: Sequence[MachineState] = ()
    evidence: Mapping[int, tuple[Evidence, ...]] = field(default_factory=dict)
    looks: Sequence[LookTaken] = ()
    blocks: tuple[BlockHead, ...] = ()
    of_runs: Mapping[Whose, tuple[Evidence, ...]] = field(default_factory=dict)
    of_search: Mapping[int, TrialColumns] = field(default_factory=dict)

    @cached_property
    def _places(self) -> dict[str, int]:
        return {measure.name: place for place, measure in enumerate(self.head.measures)}

    def reads(self, *measures: str) -> bool:
        """Whether all of these measures have a column of readings."""
        return self._places.keys() >= set(measures)

    def column(self, measure: str) -> NDArray[np.float64]:
        """Return the readings of a measure by its name, shape (n,), NaN where nothing was read.

        Raises
        ------
        KeyError
            When the record has no such measure; see `reads`.
        """
        return self.trials.readings[:, self._places[measure]]

    def with_measure(self, measure: Measure, column: NDArray[np.float64]) -> Record:
        """Return the record with one more measure."""
        import numpy as np

        head = replace(self.head, measures=(*self.head.measures, measure))
        readings = np.column_stack([self.trials.readings, column])
        return replace(self, head=head, trials=replace(self.trials, readings=readings))

    @cached_property
    def _summaries(self) -> dict[str, dict[int, Mapping[str, Any]]]:
        found: dict[str, dict[int, Mapping[str, Any]]] = {}
        for row, packets in self.evidence.items():
            for packet in packets:
                found.setdefault(packet.kind, {})[row] = packet.summary
        return found

    def summaries(self, kind: str) -> dict[int, Mapping[str, Any]]:
        """Return, by row of trials, the summary of its evidence of a kind, where there is any."""
        return self._summaries.get(kind, {})


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
    evidence : mapping
        By row, as in `Record.evidence`.
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
    evidence: Mapping[int, tuple[Evidence, ...]] = field(default_factory=dict)
