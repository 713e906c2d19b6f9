"""How many iterations make a sample of a callable: found once, on the reference, and used for every arm."""

from __future__ import annotations

from dataclasses import replace

from bystander.design import ArmState, Status, Study
from bystander.flow.rehearsal import ready_commands
from bystander.flow.trial import Commands, Runs

__all__ = ["calibrated"]


def calibrated(
    study: Study, states: tuple[ArmState, ...], commands: Commands, launcher: Runs
) -> tuple[Study, Commands]:
    """Return the study with iterations set for all its callables, and its commands.

    A callable that fails gets one iteration: its failure is told when it is tried under each arm.
    """
    found = list(study.workloads)
    for w, workload in enumerate(study.workloads):
        if workload.timed and not workload.timed.iterations:
            outcome = launcher.run(commands[w, 0].command)
            iterations = int(outcome.harness.get("iterations", 1)) if outcome.status is Status.OK else 1
            found[w] = replace(workload, timed=replace(workload.timed, iterations=iterations))
    if found == list(study.workloads):
        return study, commands
    study = replace(study, workloads=tuple(found))
    return study, ready_commands(study, states)
