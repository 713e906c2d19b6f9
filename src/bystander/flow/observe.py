"""`bystander observe`: the trials of a study, each on disk before the next begins."""

from __future__ import annotations

import math
import secrets
import time
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from bystander import __version__
from bystander.archive import Archive
from bystander.design import (
    OBSERVED,
    ArmState,
    PlannedBlock,
    Status,
    Study,
    TrialOutcome,
    plan_rounds,
    workload_key,
)
from bystander.errors import LauncherError
from bystander.field import Launcher, MachineLock, StudyFolder, folder_digest, machine_facts
from bystander.flow.check import shims, too_few
from bystander.flow.interrupts import Interrupts
from bystander.flow.observer import Observer, Progress
from bystander.flow.rehearsal import OVERHEAD_S, Commands, Tried, expected_seconds, make_arms, rehearse
from bystander.stats import interval, walsh_contrasts

if TYPE_CHECKING:
    from bystander.archive import RecordWriter

__all__ = ["Observed", "observe"]


@dataclass(frozen=True)
class Observed:
    """The record that an observation left.

    Attributes
    ----------
    record : str
        Its name; "" when it was interrupted before the first block.
    complete : bool
    """

    record: str
    complete: bool


class _StopAskedError(Exception):
    """The user asked to stop."""


class _Pace:
    """Times of blocks so far: how long is left, and how precise each workload is."""

    def __init__(self, study: Study, tried: tuple[Tried, ...]) -> None:
        self.study = study
        self.blocks = [0] * len(study.workloads)
        self.spent = [0.0] * len(study.workloads)
        for one in tried:
            self.spent[one.workload] += one.outcome.readings.get("elapsed", 0.0) + OVERHEAD_S
        self.values: list[list[list[float]]] = [[] for _ in study.workloads]
        self.precision: list[float | None] = [None] * len(study.workloads)

    def add(self, block: PlannedBlock, outcomes: Mapping[int, TrialOutcome], seconds: float) -> Progress:
        """Count a whole block and return how far things are."""
        w = block.workload
        self.spent[w] = seconds if self.blocks[w] == 0 else self.spent[w] + seconds
        self.blocks[w] += 1
        row = [_log_reading(outcomes[a], self.study.measure) for a in range(len(self.study.arms))]
        self.values[w].append(row)
        self.precision[w] = self._precision(w)
        left = sum(
            spent / max(done, 1) * (self.study.blocks - done)
            for spent, done in zip(self.spent, self.blocks, strict=True)
        )
        planned = self.study.blocks * len(self.study.workloads)
        return Progress(sum(self.blocks), planned, left, tuple(self.blocks), tuple(self.precision))

    def _precision(self, w: int) -> float | None:
        """Return half the width of the widest interval at the study's risk, as a share."""
        values = np.array(self.values[w])
        if values.shape[1] == 1:
            return None
        differences = (values[:, 1:] - values[:, :1]).T
        widths = []
        for row in np.where(np.isfinite(differences), differences, 0.0):
            low, high = interval(walsh_contrasts(row[None, :], row[None, :]), np.array([self.study.risk]))
            widths.append(float(high[0] - low[0]) / 2)
        widest = max(widths)
        return math.expm1(widest) if math.isfinite(widest) and widest < 5 else None


def _log_reading(outcome: TrialOutcome, measure: str) -> float:
    value = outcome.readings.get(measure, math.nan)
    return math.log(value) if value > 0 and outcome.status is Status.OK else math.nan


def observe(study: Study, place: StudyFolder, archive: Path, caller: Mapping[str, str], observer: Observer) -> Observed:
    """Run all trials of a study into a new record.

    Raises
    ------
    MachineBusyError, ArmError, ArchiveError, LauncherError, StudyError
    """
    study = replace(study, seed=secrets.randbits(48) if study.seed is None else study.seed)
    for sentence in too_few(study):
        observer.remark(sentence)
    with MachineLock(study.name) as lock:
        arms, commands = make_arms(study, place, caller, observer)
        for sentence in shims(arms):
            observer.remark(sentence)
        with (
            Archive(archive, create=True) as kept,
            Interrupts() as interrupts,
            Launcher(lock.fd, interrupts.fd) as launcher,
        ):
            try:
                tried, differences = rehearse(study, commands, launcher, observer)
            except KeyboardInterrupt:
                return Observed("", complete=False)
            for one in differences:
                names = study.workloads[one.workload].name, study.arms[one.arm].name, study.reference.name
                observer.remark("{}: {} gives another answer than {}.".format(*names))
            writer, name = kept.begin(study, str(place.path), arms, OBSERVED, machine_facts(), __version__)
            observer.begun(study, name, expected_seconds(study, tried))
            pace = _Pace(study, tried)
            try:
                _run(study, commands, launcher, writer, pace, observer, interrupts)
            except (_StopAskedError, KeyboardInterrupt):
                writer.finish("interrupted", _changed_folders(study, place, arms))
                return Observed(name, complete=False)
            except LauncherError:
                writer.finish("interrupted", ["The launcher went away; the observation ended there."])
                raise
            writer.machine_state(machine_facts())
            changed = _changed_folders(study, place, arms)
            for sentence in changed:
                observer.remark(sentence)
            writer.finish("complete", changed)
    return Observed(name, complete=True)


def _run(
    study: Study,
    commands: Commands,
    launcher: Launcher,
    writer: RecordWriter,
    pace: _Pace,
    observer: Observer,
    interrupts: Interrupts,
) -> None:
    keys = [workload_key(workload) for workload in study.workloads]
    assert study.seed is not None
    for block in plan_rounds(study.seed, keys, len(study.arms), study.blocks):
        begun, outcomes = time.monotonic(), {}
        for order, arm in enumerate(block.order):
            outcome = outcomes[arm] = launcher.run(commands[block.workload, arm])
            last = order == len(block.order) - 1
            limit = study.workloads[block.workload].limit_s
            writer.trial(block.workload, block.number, arm, order, outcome, limit, last)
            if interrupts.asked and not (last and pace.blocks[block.workload] + 1 == study.blocks):
                raise _StopAskedError
        observer.progressed(pace.add(block, outcomes, time.monotonic() - begun))


def _changed_folders(study: Study, place: StudyFolder, arms: tuple[ArmState, ...]) -> list[str]:
    """Say which folders that were used where they lie changed meanwhile."""
    told = []
    for arm, state in zip(study.arms, arms, strict=True):
        before = state.facts.get("digest")
        if before and folder_digest((place.path / arm.folder).resolve()) != before:
            told.append(f"The folder {arm.folder} of arm {arm.name} changed during the observation.")
    return told
