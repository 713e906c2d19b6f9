"""A check as one JSON document; docs/formats.md tells its keys."""

from __future__ import annotations

import math

from bystander.exchange.written.json_text import json_text
from bystander.foresight import Checked

__all__ = ["check_json"]


def check_json(checked: Checked) -> str:
    """Return a check as one JSON document."""
    study = checked.study
    document = {
        "format": "bystander.check",
        "version": 1,
        "study": study.name,
        "arms": [
            {"name": arm.name, "identity": arm.identity, "key": arm.key, "folder": arm.folder} for arm in checked.arms
        ],
        "commands": [
            {
                "workload": study.workloads[one.workload].name,
                "arm": study.arms[one.arm].name,
                "path": one.path,
                "command": list(one.words),
            }
            for one in checked.commands
        ],
        "trials": [
            {
                "workload": study.workloads[one.workload].name,
                "arm": study.arms[one.arm].name,
                "status": one.outcome.status.text,
                "elapsed_s": one.outcome.readings.get("elapsed"),
            }
            for one in checked.tried
        ],
        "other_answers": [
            {
                "workload": study.workloads[one.workload].name,
                "arm": study.names(one.comparison)[1],
                "against": study.names(one.comparison)[0],
                "lines": list(one.lines),
            }
            for one in checked.differences
            if not one.varies
        ],
        "answers_vary": list(
            dict.fromkeys(study.workloads[one.workload].name for one in checked.differences if one.varies)
        ),
        "machine": checked.machine.known,
        "expected_s": checked.expected_s,
        "placebo_blocks": checked.placebo_blocks,
        "noise_of": checked.noise_of or None,
        "change": checked.change,
        "outlook": [
            {
                "workload": study.workloads[one.workload].name,
                "smallest_shown": _number(one.smallest),
                "by_elapsed": _number(one.by_elapsed),
                "by_cpu": _number(one.by_cpu),
                "by_unqueued": _number(one.by_unqueued),
                "cpu_over_elapsed": _number(one.computing),
                "blocks_for_change": _number(one.blocks_for_change),
                "seconds_for_change": _number(one.seconds_for_change),
            }
            for one in checked.outlooks
        ],
        "remarks": list(checked.remarks),
    }
    return json_text(document, indent=2)


def _number(value: float) -> float | None:
    return value if math.isfinite(value) else None
