"""Keys: digests that tell whether two records speak of the same arm or workload."""

from __future__ import annotations

import hashlib
import json

from bystander.design.study import AnswerRule, Arm, Callable, Workload

__all__ = ["arm_key", "digest", "workload_key"]


def digest(value: object) -> str:
    """Return 24 hexadecimal digits of SHA-256 over the canonical JSON of a value."""
    text = json.dumps(value, sort_keys=True, ensure_ascii=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:24]


def workload_key(workload: Workload) -> str:
    """Digest of kind, template, inputs, settings and answer rule."""
    return digest(
        {
            "kind": workload.kind,
            "template": workload.command,
            "shell": workload.shell,
            "inputs": dict(workload.inputs),
            "settings": dict(workload.settings),
            "answer": workload.answer,
            **({"steps": workload.steps} if workload.steps else {}),
            **({} if workload.answer_rule.plain else {"rule": _compared(workload.answer_rule)}),
            **({"timed": _timed(workload.timed)} if workload.timed else {}),
        }
    )


def _timed(timed: Callable) -> dict[str, object]:
    """What of a callable makes it another workload; how its samples are taken does not."""
    return {name: getattr(timed, name) for name in ("call", "given", "values", "fresh", "garbage")}


def _compared(rule: AnswerRule) -> dict[str, object]:
    """How answers are compared; that a difference is accepted makes no other workload."""
    return {"file": rule.file, "mask": list(rule.mask), "any_order": rule.any_order, "tolerance": rule.tolerance}


def arm_key(arm: Arm, tree: str, interpreter: str) -> str:
    """Digest of the tree as it was, build steps, interpreter, settings, environment and commands.

    Parameters
    ----------
    tree : str
        Digest of the files.
    interpreter : str
        What runs build steps and commands, with its version; "" where unknown.
    """
    return digest(
        {
            "tree": tree,
            "build": list(arm.build),
            "interpreter": interpreter,
            "settings": dict(arm.settings),
            "environment": dict(arm.environment),
            "command": dict(arm.command),
            **({"placebo": True} if arm.placebo else {}),
        }
    )
