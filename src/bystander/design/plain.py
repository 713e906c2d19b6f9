"""Types of this room as plain tables and lists, for archives and files, and back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from bystander.design.measures import Measure
from bystander.design.study import Arm, Study, Workload
from bystander.design.trials import ArmState

__all__ = ["arm_state_from", "measure_from", "plain", "study_from"]


def plain(value: Study | ArmState | Measure) -> dict[str, Any]:
    """Return the value as dicts and lists of plain values."""
    return asdict(value)


def study_from(table: Mapping[str, Any]) -> Study:
    """Return the study that `plain` made a table of; raise KeyError or TypeError when it did not."""
    arms = tuple(Arm(**{**arm, "build": tuple(arm["build"])}) for arm in table["arms"])
    workloads = tuple(Workload(**workload) for workload in table["workloads"])
    keep = tuple(table["keep_environment"])
    return Study(**{**table, "arms": arms, "workloads": workloads, "keep_environment": keep})


def arm_state_from(table: Mapping[str, Any]) -> ArmState:
    """Return the arm's state that `plain` made a table of."""
    return ArmState(**table)


def measure_from(table: Mapping[str, Any]) -> Measure:
    """Return the measure that `plain` made a table of."""
    return Measure(**table)
