"""`bystander check`: everything but the observation itself."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bystander.design import ArmState, Status, Study, with_only
from bystander.field import ArmMaker, Launcher, MachineLock, machine_facts
from bystander.flow.observer import Observer
from bystander.flow.pace import Pace
from bystander.flow.places import load_study
from bystander.flow.rehearsal import AnswerDifference, Tried, make_arms, rehearse
from bystander.flow.trial import Commands, TrialRunner
from bystander.stats import blocks_needed

__all__ = ["Checked", "check", "checked_json", "shims", "too_few"]


@dataclass(frozen=True)
class Checked:
    """What a check found.

    Attributes
    ----------
    expected_s : float
        How long the observation will take, in seconds.
    remarks : tuple of str
        What the user should know before the start, one sentence each.
    """

    study: Study
    arms: tuple[ArmState, ...]
    commands: Commands
    tried: tuple[Tried, ...]
    differences: tuple[AnswerDifference, ...]
    machine: Mapping[str, Any]
    expected_s: float
    remarks: tuple[str, ...]

    @property
    def failures(self) -> tuple[Tried, ...]:
        """Trials that did not end well."""
        return tuple(one for one in self.tried if one.outcome.status is not Status.OK)


def check(
    path: Path | None, here: Path, caller: Mapping[str, str], observer: Observer, only: Sequence[str] = ()
) -> Checked:
    """Read the study, make the arms ready, try each workload once per arm, and describe the machine."""
    study, place = load_study(path, here)
    study = with_only(study, only)
    arms, commands = make_arms(study, ArmMaker(place, caller), observer)
    machine = machine_facts()
    with MachineLock(f"check of {study.name}") as lock, Launcher(lock.fd) as launcher:
        tried, differences = rehearse(study, TrialRunner(launcher, commands), observer)
    remarks = [*too_few(study), *shims(arms), *_unread_answers(study), *_left_behind(study, tried)]
    return Checked(study, arms, commands, tried, differences, machine, Pace(study, tried).left_s, tuple(remarks))


def too_few(study: Study) -> list[str]:
    """Say when so few blocks could not show a change whatever came out."""
    if study.comparisons == 0:
        return []
    needed = blocks_needed(study.comparisons, study.risk)
    if study.blocks >= needed:
        return []
    return [
        f"{study.blocks} blocks can show nothing in a suite of {study.comparisons} comparisons: "
        f"it takes {needed} at least (blocks = {needed})."
    ]


def shims(arms: tuple[ArmState, ...]) -> list[str]:
    """Say when a trial pays for a script that starts the interpreter."""
    told = {}
    for arm in arms:
        facts = arm.facts.get("interpreter", {})
        if facts.get("through_script"):
            told[facts["path"]] = facts["program"]
    return [
        f"{path} is a script that starts {program}, and every trial pays for that; "
        "name the interpreter itself to leave it out."
        for path, program in told.items()
    ]


def _unread_answers(study: Study) -> list[str]:
    if len(study.arms) < 2 or any(workload.answer for workload in study.workloads):
        return []
    return ['No answers are compared: answer = "output" finds a faster program that prints something else.']


def _left_behind(study: Study, tried: tuple[Tried, ...]) -> list[str]:
    names = dict.fromkeys(study.workloads[one.workload].name for one in tried if one.outcome.left_behind)
    return [f"{name} leaves processes behind; they are ended after each trial." for name in names]


def checked_json(checked: Checked) -> str:
    """Return a check as one JSON document."""
    study = checked.study
    document = {
        "format": "bystander.check",
        "version": 1,
        "study": study.name,
        "arms": [
            {"name": arm.name, "identity": arm.identity, "key": arm.key, "folder": arm.folder} for arm in checked.arms
        ],
        "trials": [
            {
                "workload": study.workloads[one.workload].name,
                "arm": study.arms[one.arm].name,
                "command": list(checked.commands[one.workload, one.arm].command.argv),
                "status": one.outcome.status.text,
                "elapsed_s": one.outcome.readings.get("elapsed"),
            }
            for one in checked.tried
        ],
        "other_answers": [
            {
                "workload": study.workloads[one.workload].name,
                "arm": study.arms[one.arm].name,
                "lines": list(one.lines),
            }
            for one in checked.differences
        ],
        "machine": dict(checked.machine),
        "expected_s": checked.expected_s,
        "remarks": list(checked.remarks),
    }
    return json.dumps(document, indent=2, ensure_ascii=False)
