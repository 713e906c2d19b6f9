"""What inspections of one state and of two share: their trials made ready, their runs begun and ended tidily."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import ArmState, MachineFacts, RecordHead, Run, State, Study
from bystander.field import Launcher, Site, StudyFolder, ready_workload, stub_for
from bystander.flow.trials.answers import Answers
from bystander.flow.trials.kinds import joined_kind
from bystander.flow.trials.ready import run_before_all
from bystander.flow.trials.starts import Starts
from bystander.flow.trials.trial import TrialRunner

__all__ = ["begun_run", "ended_well", "ready_trials"]


def ready_trials(
    head: RecordHead,
    workload: int,
    arms: Mapping[int, ArmState],
    launcher: Launcher,
    limit_s: float | None,
    prepared: set[int] | None = None,
) -> tuple[Study, TrialRunner]:
    """Return what runs the trials of a workload under some arms, and the study as they run it.

    Parameters
    ----------
    arms : mapping
        By their positions in the study; what is found once, before the first trial, is found under the first.
    limit_s : float or None
        When a trial is ended, in the place of the study's limit.
    prepared : set of int
        Arms whose `before_all` ran already for this command; those of these trials are added.
    """
    study, stub = head.study, stub_for(head.study)
    sites = {a: Site(study.arms[a], state.folder, state.facts.environment) for a, state in arms.items()}
    prepared = set() if prepared is None else prepared
    run_before_all(study, {a: state for a, state in arms.items() if a not in prepared}, launcher)
    prepared |= set(arms)
    what = study.workloads[workload]
    first = ready_workload(what, next(iter(sites.values())), stub)
    what = joined_kind(what.kind).calibrated(what, launcher, first.command)
    commands = {}
    for a, site in sites.items():
        taken_over = [site.environment.get(name, "") for name in study.taken_over]
        ready = ready_workload(what, site, stub).masking(taken_over)
        if limit_s:
            ready = replace(ready, command=replace(ready.command, limit_s=limit_s))
        commands[workload, a] = ready
    study = replace(study, workloads=(*study.workloads[:workload], what, *study.workloads[workload + 1 :]))
    answers = Answers(study, StudyFolder(Path(head.study_folder)).own / "answers")
    return study, TrialRunner(launcher, commands, answers, Starts(study))


def begun_run(
    kept: Archive, uuid: str, purpose: str, seed: int, machine: MachineFacts, options: Mapping[str, Any]
) -> tuple[Run, RecordWriter]:
    """Begin a run of a record, numbered behind all others; return it with its writer."""
    head = kept.head(uuid)
    number = max((run.number for run in head.runs), default=-1) + 1
    run = Run(number, purpose, seed, machine=len(head.machines), options=options, began_wall_s=time.time())
    return run, kept.begin_run(head, run, machine)


def ended_well(writer: RecordWriter, work: Callable[[], bool]) -> bool:
    """Do the work of a run and end it; return whether it was not interrupted, which is what the work says."""
    state = State.INTERRUPTED
    try:
        with suppress(KeyboardInterrupt):
            state = State.COMPLETE if work() else State.INTERRUPTED
    finally:
        writer.finish(state)
    return state is State.COMPLETE
