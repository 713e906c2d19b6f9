"""Arms are made, and every command of every workload is found under each of them."""

from __future__ import annotations

from collections.abc import Mapping

from bystander.design import ArmState, Status, Study
from bystander.errors import ArmError, StudyError
from bystander.field import ArmMaker, ReadyWorkload, Runs, Site, ready_step, ready_workload, stub_for
from bystander.flow.observer import Observer
from bystander.flow.trials.trial import Commands

__all__ = ["make_arms", "ready_commands", "run_before_all"]


def make_arms(study: Study, maker: ArmMaker, observer: Observer) -> tuple[tuple[ArmState, ...], Commands]:
    """Make all arms ready and resolve every command; all that is missing is told at once."""
    maker.remove_half_made()
    states = []
    for arm in study.arms:
        observer.making(arm.name)
        states.append(maker.make(study, arm))
        observer.made(states[-1])
    return tuple(states), ready_commands(study, tuple(states))


def run_before_all(study: Study, states: Mapping[int, ArmState], launcher: Runs) -> None:
    """Run what each arm asks for once before its first trial: a database is filled, an index is made.

    Parameters
    ----------
    states : mapping
        By the position of the arm.

    Raises
    ------
    ArmError
        When a step fails; with the end of what it printed.
    StudyError
        When its program cannot be found.
    """
    for a, state in states.items():
        arm = study.arms[a]
        for step in arm.before_all:
            hidden = [state.facts.environment.get(name, "") for name in study.taken_over]
            site = Site(arm, state.folder, state.facts.environment)
            outcome = launcher.run(ready_step(step, site, "before_all", hidden))
            if outcome.status is not Status.OK:
                said = "".join(f"\n  {line}" for line in outcome.excerpt.splitlines())
                raise ArmError(f'arm {arm.name}: before_all "{step}" failed ({outcome.how}){":" if said else ""}{said}')


def ready_commands(study: Study, states: tuple[ArmState, ...]) -> Commands:
    """Return every command under every arm, with the environment that the arm's state holds.

    Raises
    ------
    StudyError
        With every program that cannot be found.
    """
    commands: dict[tuple[int, int], ReadyWorkload] = {}
    problems: list[str] = []
    stub = stub_for(study)
    for w, workload in enumerate(study.workloads):
        for a, (arm, state) in enumerate(zip(study.arms, states, strict=True)):
            try:
                ready = ready_workload(workload, Site(arm, state.folder, state.facts.environment), stub)
                commands[w, a] = ready.masking(state.facts.environment.get(name, "") for name in study.taken_over)
            except StudyError as error:
                problems += error.problems
    if problems:
        raise StudyError(list(dict.fromkeys(problems)))
    return commands
