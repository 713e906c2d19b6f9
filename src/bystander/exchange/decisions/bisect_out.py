"""What a search for a commit found, as JSON; its schema is docs/bisect.schema.json."""

from __future__ import annotations

import math
from typing import Any

from bystander.exchange.written.json_text import json_text
from bystander.verdicts import Bisected, Ends, Searched, Step

__all__ = ["bisect_json"]


def bisect_json(done: Searched) -> str:
    """Return the document, indented; numbers that are unbounded or undefined are null."""
    head = done.head
    measure = next((one for one in head.measures if one.name == head.study.measure), head.measures[0])
    document = {
        "format": "bystander.bisect",
        "version": 1,
        "record": head.name,
        "record_uuid": head.uuid,
        "started_wall_s": head.started_wall_s,
        "study": head.study.name,
        "complete": head.complete,
        "what": done.what,
        "measure": head.study.measure,
        "scale": "difference" if measure.unit in ("", "1", "share") else "ratio",
        "risk": head.study.risk,
        "blocks": head.study.blocks,
        "seed": head.study.seed,
        "commits": len(done.commits) - 1,
        "good": done.commits[0].id,
        "bad": done.commits[-1].id,
        "broken": [{"commit": name, "why": why} for name, why in done.broken.items()],
        "searches": [_search(done, workload, found) for workload, found in done.found],
    }
    return json_text(document, indent=2)


def _search(done: Searched, workload: int, found: Bisected) -> dict[str, Any]:
    ratio = _ratio(done)
    return {
        "workload": done.head.study.workloads[workload].name,
        "outcome": found.outcome,
        "ends": _ends(found.ends, ratio) if found.ends else None,
        "ends_blocks": found.tested_blocks,
        "steps": [_step(done, one, ratio) for one in found.steps],
        "remaining": [done.commits[one].short for one in found.remaining if one < len(done.commits)],
        "tried": [done.commits[one].short for one in found.tried],
        "blocks": found.blocks,
        "remainder": None if found.remainder is None else _number(_shown(found.remainder, ratio)),
        "remainder_p": found.remainder_p,
    }


def _ratio(done: Searched) -> bool:
    measure = next((one for one in done.head.measures if one.name == done.head.study.measure), None)
    return measure is None or measure.unit not in ("", "1", "share")


def _ends(ends: Ends, ratio: bool) -> dict[str, Any]:
    change = None if ends.kind == "fails" else _number(_shown(ends.effect, ratio))
    return {"kind": ends.kind, "change": change, "p": ends.p, "blocks": ends.blocks}


def _step(done: Searched, step: Step, ratio: bool) -> dict[str, Any]:
    commit, parent = done.commits[step.commits[-1]], done.commits[step.parent]
    size = done.sizes.get(commit.short)
    return {
        "commit": commit.id,
        "short": commit.short,
        "subject": commit.subject,
        "parent": parent.id,
        "with": [done.commits[one].short for one in step.commits[:-1]],
        "kind": step.kind,
        "change": _number(_shown(step.effect, ratio)),
        "interval": [_number(_shown(step.low, ratio)), _number(_shown(step.high, ratio))],
        "p": _number(step.p),
        "blocks": step.blocks,
        "hunks": list(done.hunks.get(commit.short, ())),
        "size": None if size is None else {
            "added": size.added, "removed": size.removed, "hunks": size.hunks, "files": size.files,
        },
    }  # fmt: skip


def _shown(value: float, ratio: bool) -> float:
    if not ratio:
        return value
    return math.exp(value) if value < 700 else math.inf


def _number(value: float) -> float | None:
    return value if math.isfinite(value) else None
