"""Levels of a record as one JSON document; docs/formats.md tells its keys."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence

from bystander.design import RecordHead
from bystander.foresight import WorkloadLevels, level_share

__all__ = ["levels_json"]


def levels_json(head: RecordHead, found: Sequence[WorkloadLevels]) -> str:
    """Return the levels as one JSON document; null where there is too little to tell."""
    workloads = [
        {
            "workload": one.workload, "samples": _number(one.spread.samples), "trials": _number(one.spread.trials),
            "blocks": _number(one.spread.blocks), "records": _number(one.records), "of_blocks": one.spread.counted,
            "of_records": one.of_records, "largest": one.largest or None,
        }
        for one in found
    ]  # fmt: skip
    document = {"format": "bystander.levels", "version": 1, "record": head.name, "workloads": workloads}
    return json.dumps(document, indent=2, ensure_ascii=False)


def _number(spread: float) -> float | None:
    """Return a spread as a share."""
    return level_share(spread) if math.isfinite(spread) else None
