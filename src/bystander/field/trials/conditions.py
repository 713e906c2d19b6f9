"""Conditions of trials that are alike in all arms: fixed for the study, or drawn anew for each block.

Which of them move a program is not known beforehand: the hash seed orders sets, the size of the environment
moves the stack, the length of a path takes time wherever it is walked (Mytkowicz et al. 2009). Held alike
they cannot bias; varied, the verdict does not hang on one value of them.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from bystander.design import Study
from bystander.errors import StudyError
from bystander.field.depths import deeper
from bystander.field.trials.commands import ReadyCommand

__all__ = ["PADDING", "stub_for", "under_conditions"]

PADDING = "BYSTANDER_PADDING"


def stub_for(study: Study) -> dict[str, Any]:
    """Return what the stub is to set for each trial, empty for nothing; raise StudyError for what is not there."""
    allowed = os.sched_getaffinity(0) if hasattr(os, "sched_getaffinity") else set(study.affinity)
    missing = sorted(set(study.affinity) - allowed)
    if missing:
        here = ", ".join(map(str, sorted(allowed)))
        raise StudyError([f"affinity: there is no processor {missing[0]} for trials here; there are {here}"])
    wanted = {
        "niceness": study.niceness,
        "affinity": list(study.affinity),
        "fixed_addresses": study.fixed_addresses,
    }
    return {name: value for name, value in wanted.items() if value}


def under_conditions(command: ReadyCommand, conditions: Mapping[str, int]) -> ReadyCommand:
    """Return a command as it runs in a block of these conditions."""
    if not conditions:
        return command
    environment = dict(command.environment)
    if "hash seed" in conditions:
        environment["PYTHONHASHSEED"] = str(conditions["hash seed"])
    if "environment size" in conditions:
        environment[PADDING] = "x" * conditions["environment size"]
    depth = conditions.get("folder depth", 0)
    folder = deeper(command.folder, depth)
    path = deeper(command.path, depth) if command.path.startswith(command.folder) else command.path
    return replace(command, environment=environment, folder=folder, path=path)
