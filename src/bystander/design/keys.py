"""Keys: digests that tell whether two records speak of the same arm or workload."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import asdict

from bystander.design.readers.kinds import kind_of
from bystander.design.studies.arms import Arm
from bystander.design.studies.workloads import AnswerRule, Workload

__all__ = ["arm_key", "digest", "workload_key"]


def digest(value: object) -> str:
    """Return 24 hexadecimal digits of SHA-256 over the canonical JSON of a value."""
    text = json.dumps(value, sort_keys=True, ensure_ascii=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:24]


def workload_key(workload: Workload) -> str:
    """Digest of kind, what it runs, inputs, settings and answer rule."""
    return digest(
        {
            "kind": workload.kind,
            **kind_of(workload.what).digested(workload.what),
            "inputs": dict(workload.inputs),
            "settings": dict(workload.settings),
            "answer": workload.answer,
            **({"steps": workload.steps} if workload.steps else {}),
            **({"ready": asdict(workload.ready)} if workload.ready.asked else {}),
            **({} if workload.answer_rule.plain else {"rule": _compared(workload.answer_rule)}),
        }
    )


def _compared(rule: AnswerRule) -> dict[str, object]:
    """How answers are compared; that a difference is accepted makes no other workload."""
    by = {"compare": rule.compare} if rule.compare else {}
    return {**by, "file": rule.file, "mask": list(rule.mask), "any_order": rule.any_order, "tolerance": rule.tolerance}


def arm_key(
    arm: Arm, tree: str, interpreter: str, filters: Mapping[str, Mapping[str, str]] | None = None
) -> str:
    """Digest of the tree as it was, build steps, interpreter, settings, environment and commands.

    Parameters
    ----------
    tree : str
        Digest of the files.
    interpreter : str
        What runs build steps and commands, with its version; "" where unknown.
    filters : mapping, optional
        The commands through which files pass when the tree is laid out, by the name of a filter of git.
    """
    return digest(
        {
            "tree": tree,
            "build": list(arm.build),
            "interpreter": interpreter,
            "settings": dict(arm.settings),
            "environment": dict(arm.environment),
            "command": dict(arm.command),
            **({"before_all": list(arm.before_all)} if arm.before_all else {}),
            **({"placebo": True} if arm.placebo else {}),
            **({"filters": True} if arm.filters else {}),
            **({"filter_commands": {name: dict(keys) for name, keys in filters.items()}} if filters else {}),
        }
    )
