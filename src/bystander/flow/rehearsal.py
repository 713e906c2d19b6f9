"""Before anything is recorded: arms are made, programs are found, each workload is tried once per arm."""

from __future__ import annotations

import difflib
from dataclasses import dataclass

from bystander.design import ArmState, Status, Study, TrialOutcome
from bystander.errors import StudyError
from bystander.field import ArmMaker, ReadyWorkload, ready_workload, stub_for
from bystander.flow.observer import Observer
from bystander.flow.own_files import OwnFiles
from bystander.flow.tellings import require_measure
from bystander.flow.trial import Commands, TrialRunner

__all__ = [
    "AnswerDifference",
    "Tried",
    "difference_sentence",
    "make_arms",
    "ready_commands",
    "rehearse",
]

_COMPARED = 1 << 20  # characters
_DIFF_LINES = 8


@dataclass(frozen=True)
class Tried:
    """One workload tried once under one arm."""

    workload: int
    arm: int
    outcome: TrialOutcome


@dataclass(frozen=True)
class AnswerDifference:
    """A workload whose candidate answered differently; the lines of a short diff."""

    workload: int
    arm: int
    lines: tuple[str, ...]


def make_arms(study: Study, maker: ArmMaker, observer: Observer) -> tuple[tuple[ArmState, ...], Commands]:
    """Make all arms ready and resolve every command; all that is missing is told at once."""
    maker.remove_half_made()
    states = []
    for arm in study.arms:
        observer.making(arm.name)
        states.append(maker.make(study, arm))
        observer.made(states[-1])
    return tuple(states), ready_commands(study, tuple(states))


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
                commands[w, a] = ready_workload(workload, arm, state.folder, state.facts["environment"], stub)
            except StudyError as error:
                problems += error.problems
    if problems:
        raise StudyError(list(dict.fromkeys(problems)))
    return commands


def rehearse(
    study: Study, trials: TrialRunner, observer: Observer, watched: OwnFiles | None = None
) -> tuple[tuple[Tried, ...], tuple[AnswerDifference, ...]]:
    """Try each workload once per arm, and compare answers where the study asks for it.

    Parameters
    ----------
    watched : OwnFiles, optional
        Tells what was opened outside an arm's own folder, whoever did it: only what a second try opens too counts.

    Raises
    ------
    StudyError
        When a program does not tell what the study decides on.
    OwnFilesError
        When an arm runs files that are not its own.
    """
    foreign: dict[int, set[str]] = {}
    tried, differences = [], []
    for w, workload in enumerate(study.workloads):
        answers: list[tuple[TrialOutcome, str]] = []
        for a, arm in enumerate(study.arms):
            texts: list[str] = []
            keep = texts.append if workload.answer in ("output", "file", "result") else None
            if watched:
                watched.opened(a)
            outcome = trials.run(w, a, keep)
            if watched and (seen := watched.opened(a)):
                trials.run(w, a)
                foreign.setdefault(a, set()).update(seen & watched.opened(a))
            observer.tried(workload.name, arm.name, outcome)
            tried.append(Tried(w, a, outcome))
            answers.append((outcome, texts[0][:_COMPARED] if texts else outcome.answer))
            if workload.answer and a and _differ(answers[0][0], outcome):
                lines = _diff(answers[0][1], answers[a][1], study.reference.name, arm.name)
                differences.append(AnswerDifference(w, a, lines))
    for a, files in foreign.items():
        if watched and files:
            raise watched.refusal(a, files)
    require_measure(study, tried)
    return tuple(tried), tuple(differences)


def difference_sentence(study: Study, difference: AnswerDifference) -> str:
    """Say that a candidate answers differently."""
    workload, arm = study.workloads[difference.workload].name, study.arms[difference.arm].name
    reason = study.accepted(difference.workload, difference.arm)
    accepted = f", which is accepted: {reason}" if reason else ""
    return f"{workload}: {arm} gives another answer than {study.reference.name}{accepted}."


def _differ(reference: TrialOutcome, candidate: TrialOutcome) -> bool:
    both = reference.status is Status.OK and candidate.status is Status.OK
    return both and reference.answer != candidate.answer


def _diff(reference: str, candidate: str, reference_name: str, candidate_name: str) -> tuple[str, ...]:
    """Return the first differing lines, marked with the arms' names."""
    old, new = reference.splitlines(), candidate.splitlines()
    start = next(
        (i for i, pair in enumerate(zip(old, new, strict=False)) if pair[0] != pair[1]),
        min(len(old), len(new)),
    )
    window = slice(start, start + 200)
    lines = [
        f"{reference_name if line[0] == '-' else candidate_name}: {line[2:]}"
        for line in difflib.ndiff(old[window], new[window], charjunk=None)
        if line[0] in "+-"
    ]
    rest = len(lines) - _DIFF_LINES
    shown = [f"from line {start + 1} on:", *lines[:_DIFF_LINES]]
    return tuple([*shown, f"and {rest} more lines that differ"] if rest > 0 else shown)
