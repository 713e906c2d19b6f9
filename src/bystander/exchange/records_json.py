"""What `bystander records` prints for programs: records in short, one with its size, levels, and the archive's size."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from bystander.design import Record, RecordHead, inspection_facts, inspections
from bystander.exchange.written.json_text import json_text
from bystander.foresight import WorkloadLevels, level_share

__all__ = ["archive_size_json", "levels_json", "record_shown_json", "records_listed_json"]


def _in_short(head: RecordHead) -> dict[str, object]:
    return {
        "record": head.name,
        "uuid": head.uuid,
        "study": head.study.name,
        "origin": head.origin,
        "provenance": head.provenance,
        "state": head.state,
        "complete": head.complete,
        "started_wall_s": head.started_wall_s,
        "arms": [arm.name for arm in head.study.arms],
        "workloads": [workload.name for workload in head.study.workloads],
    }


def _text(document: Any) -> str:
    return json_text(document, indent=2)


def records_listed_json(heads: Sequence[RecordHead], tainted: Collection[str]) -> str:
    """Return records in short, and whether the placebo of each is shown to differ."""
    return _text([{**_in_short(head), "tainted": head.name in tainted} for head in heads])


def record_shown_json(record: Record) -> str:
    """Return a record in short, with its trials counted, its machines and its runs."""
    head, failed = record.head, int(record.trials.failed.sum())
    more = {
        "trials": len(record.trials),
        "failed": failed,
        "machine": head.machine.known,
        "machines": [machine.known for machine in head.machines],
        "runs": [{"number": run.number, "purpose": run.purpose, "state": run.state} for run in head.runs],
        "inspections": [dict(inspection_facts(head, run)) for run in inspections(head)],
        "seed": head.study.seed,
    }
    return _text({**_in_short(head), **more})


def archive_size_json(
    file: int, arms: int, states: int, evidence_files: int, by_record: Mapping[str, tuple[int, int]]
) -> str:
    """Return what an archive takes, in bytes: its file; arms, states and evidence beside it; and of each record."""
    document = {
        "file_bytes": file,
        "arms_bytes": arms,
        "states_bytes": states,
        "evidence_files_bytes": evidence_files,
        "readings_bytes": {name: readings for name, (readings, _) in by_record.items()},
        "evidence_bytes": {name: evidence for name, (_, evidence) in by_record.items()},
    }
    return _text(document)


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
    return json_text(document, indent=2)


def _number(spread: float) -> float | None:
    """Return a spread as a share."""
    return level_share(spread) if math.isfinite(spread) else None
