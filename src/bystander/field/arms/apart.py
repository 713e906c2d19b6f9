"""Arms that would be built into one folder: each gets a copy of its own, or they would all run what was built last."""

from __future__ import annotations

import shlex
from pathlib import Path

from bystander.design import Arm, Command, KeptState, Study, TimedCallable, fill_plain, filled_words, unbraced
from bystander.errors import UsageError
from bystander.field.arms.folders import NotOfTheArm
from bystander.field.arms.study_folder import StudyFolder
from bystander.field.kept.chosen import Wanted, named_files
from bystander.field.kept.states import KeptStates
from bystander.units import listed

__all__ = ["arm_words", "built_apart", "copied_apart"]

_MOST_BYTES = 2**40  # as much as the disk takes: these copies are not kept for later
_NAMED = 4


def arm_words(study: Study, arm: Arm) -> tuple[str, ...]:
    """Return every word of the commands that an arm runs, steps included."""
    words: list[str] = []
    for workload in study.workloads:
        values = arm.values_for(workload)
        for template in (arm.command_for(workload), *workload.steps.values()):
            try:
                words += filled_words(template, values)
            except (ValueError, KeyError):  # told where it is made ready
                words += template.split()
        if isinstance(workload.what, TimedCallable):
            words.append(workload.what.python)
        elif isinstance(workload.what, Command) and workload.what.input:
            words.append(fill_plain(workload.what.input, values))
    for step in (*arm.build, *arm.before_all):
        words += shlex.split(unbraced(step))
    return tuple(words)


def _lies_in(arm: Arm, home: StudyFolder) -> Path | None:
    """Return the folder that an arm would be built in where it lies; None for one that is laid out apart anyway."""
    if arm.in_place or arm.kept or arm.revision is not None:
        return None
    folder = (home.path / arm.folder).resolve()
    return None if folder == home.path and home.git is not None else folder


def _built(arm: Arm) -> tuple[object, ...]:
    """Return what decides what a build leaves in the folder."""
    steps = tuple(tuple(filled_words(step, arm.filled)) for step in arm.build)
    return steps, tuple(sorted(arm.environment.items())) if steps else ()


def built_apart(study: Study, arm: Arm, home: StudyFolder) -> bool:
    """Whether an arm shares its folder with one that is built otherwise, so that each needs a copy."""
    folder = _lies_in(arm, home)
    if folder is None:
        return False
    return any(_built(one) != _built(arm) for one in study.arms if _lies_in(one, home) == folder)


def copied_apart(study: Study, arm: Arm, home: StudyFolder, left_out: NotOfTheArm) -> KeptState:
    """Return the state of an arm's folder as it stands, to be laid out and built apart.

    An environment of Python into which it is built must be made by the build: a copy of one that is there would not
    work, and a link to it would be shared.

    Raises
    ------
    NotKeptError
        When the folder cannot be copied.
    UsageError
        When arms would install into one environment.
    """
    folder = (home.path / arm.folder).resolve()
    steps = [filled_words(step, arm.filled) for step in arm.build]
    _, into = named_files([word for words in steps for word in words], folder, folder)
    if into and not any(Path(word).name in ("venv", "virtualenv") for words in steps for word in words):
        names = listed([one.name for one in study.arms if _lies_in(one, home) == folder], _NAMED)
        raise UsageError(
            f"arms {names} would be installed into one environment, {next(iter(into))}; let each make its own: "
            f'build = ["python3 -m venv {next(iter(into))}", ...]'
        )
    words = arm_words(study, arm)
    return KeptStates(home).take(folder, Wanted(words, (), _MOST_BYTES, left_out, without=tuple(into)))
