"""What is found once, on the reference, and used for every arm: how many iterations make a sample of a callable."""

from __future__ import annotations

from dataclasses import replace

from bystander.design import ArmState, Study
from bystander.field import Runs
from bystander.flow.trials.kinds import joined_kind
from bystander.flow.trials.ready import ready_commands
from bystander.flow.trials.trial import Commands

__all__ = ["calibrated"]


def calibrated(
    study: Study, states: tuple[ArmState, ...], commands: Commands, launcher: Runs
) -> tuple[Study, Commands]:
    """Return the study with what its workloads need to know before the first trial, and its commands."""
    found = tuple(
        joined_kind(workload.kind).calibrated(workload, launcher, commands[w, study.reference_at].command)
        for w, workload in enumerate(study.workloads)
    )
    if found == study.workloads:
        return study, commands
    study = replace(study, workloads=found)
    return study, ready_commands(study, states)
