"""A block as one JSON document, complete by itself: it can run elsewhere, and be taken into its record later, once."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import reduce
from typing import Any

from bystander.design import (
    ORDERS,
    BlockRun,
    MachineFacts,
    Measure,
    RecordHead,
    Run,
    Status,
    TrialOutcome,
    block_conditions,
    from_plain,
    plain,
    workload_key,
)
from bystander.errors import DataError
from bystander.exchange.evidence_json import evidence_of, evidence_table, whole, with_packet
from bystander.exchange.written.json_text import json_text

__all__ = ["BLOCK_FORMAT", "SentBlock", "block_json", "misfit", "read_block_json"]

BLOCK_FORMAT = "bystander.block"
_VERSION = 1


@dataclass(frozen=True)
class SentBlock:
    """A block that ran elsewhere.

    Attributes
    ----------
    record : str
        UUID of the record that it belongs to.
    run : int
        The run's number.
    workload_key : str
        Digest of what was run, see `design.workload_key`.
    arm_keys : mapping
        By arm, as positions in the study: digests of the states that ran.
    machine : MachineFacts
        Where it ran.
    ran : BlockRun
        Its machine is that of this document.
    """

    record: str
    run: int
    workload_key: str
    arm_keys: Mapping[int, str]
    machine: MachineFacts
    ran: BlockRun


def block_json(head: RecordHead, run: Run, ran: BlockRun) -> str:
    """Return the document of a block of a record's run, with its machine, conditions, trials and evidence."""
    workload = head.study.workloads[ran.workload]
    document = {
        "format": BLOCK_FORMAT,
        "version": _VERSION,
        "record": head.uuid,
        "run": {"number": run.number, "purpose": run.purpose, "seed": run.seed},
        "workload": {"position": ran.workload, "name": workload.name, "key": workload_key(workload)},
        "number": ran.number,
        "attempt": ran.attempt,
        "took_s": ran.took_s,
        "machine": head.machines[ran.machine].known if head.machines else {},
        "conditions": dict(ran.conditions),
        "trials": [
            {"arm": arm, "name": head.study.arms[arm].name, "key": head.arms[arm].key, **_trial(outcome)}
            for arm, outcome in ran.outcomes.items()
        ],
    }
    return json_text(document) + "\n"


def _trial(outcome: TrialOutcome) -> dict[str, Any]:
    return {
        "status": outcome.status.text,
        "detail": outcome.detail,
        "started_wall_s": outcome.started_wall_s,
        "started_monotonic_s": outcome.started_monotonic_s,
        "readings": {name: None if math.isnan(value) else value for name, value in outcome.readings.items()},
        "answer": outcome.answer,
        "excerpt": outcome.excerpt,
        "left_behind": outcome.left_behind,
        "samples": {name: list(values) for name, values in outcome.samples.items()},
        "harness": dict(outcome.harness),
        "process_s": outcome.process_s,
        "measures": {name: plain(measure) for name, measure in outcome.measures.items()},
        "evidence": [evidence_table(packet) for packet in outcome.evidence],
    }


def read_block_json(document: dict[str, Any], file: str) -> SentBlock:
    """Return the block of a document; raise DataError when it is none, or damaged."""
    if document.get("version") != _VERSION:
        raise DataError(f"{file}: version {document.get('version')} is not known; this Bystander reads {_VERSION}")
    try:
        return _sent(document)
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as error:
        reason = f"{error} is missing" if isinstance(error, KeyError) else str(error)
        raise DataError(f"{file}: the block is damaged: {reason}") from None


def _sent(document: dict[str, Any]) -> SentBlock:
    workload, trials = document["workload"], document["trials"]
    outcomes = {whole(trial["arm"]): _outcome(trial) for trial in trials}
    if len(outcomes) < len(trials) or not trials:
        raise ValueError("trials are none, or two of one arm")
    conditions = {str(name): whole(value) for name, value in document["conditions"].items()}
    ran = BlockRun(
        whole(workload["position"]), whole(document["number"]), whole(document["attempt"]), 0, conditions, outcomes,
        float(document["took_s"]),
    )  # fmt: skip
    return SentBlock(
        str(document["record"]), whole(document["run"]["number"]), str(workload["key"]),
        {whole(trial["arm"]): str(trial["key"]) for trial in trials}, MachineFacts.of(document["machine"]), ran,
    )  # fmt: skip


def misfit(head: RecordHead, sent: SentBlock) -> str:
    """Return why a block is none of the record that it names, as a clause; "" where it is one of it.

    It must be what the record's plan says: the same workload, states of arms, order and conditions, so that it is
    as random as the blocks that ran there.
    """
    study, run, ran = head.study, head.timed_run, sent.ran
    if not 0 <= ran.workload < len(study.workloads) or workload_key(study.workloads[ran.workload]) != sent.workload_key:
        return f"its workload is none of record {head.name}; its key must be the same"
    for arm, key in sent.arm_keys.items():
        if not 0 <= arm < len(head.arms) or head.arms[arm].key != key:
            return f"arm {arm} was not in the state that record {head.name} compares"
    if sent.run != run.number:
        return f"its run {sent.run} is not the one that is timed"
    most = study.planned_blocks[ran.workload]
    if not 0 <= ran.number < most:
        return f"record {head.name} plans blocks 0 to {most - 1}, and no block {ran.number}"
    planned = ORDERS[run.order](run.seed, sent.workload_key, ran.number, [arm.name for arm in study.arms])
    if [arm for arm in planned if arm in ran.outcomes] != list(ran.outcomes):
        return "its arms did not run in the order that the record's seed decides"
    if dict(ran.conditions) != block_conditions(run.seed, sent.workload_key, ran.number, study.vary):
        return "its conditions are not those that the record's seed decides"
    known = {measure.name for measure in head.measures}
    for outcome in ran.outcomes.values():
        read = {*outcome.samples, *(name for name, value in outcome.readings.items() if not math.isnan(value))}
        if unknown := sorted(read - {*known, *outcome.measures}):
            return f'it has readings of "{unknown[0]}", and does not describe that measure'
    return ""


_STATUSES = {status.text: status for status in Status}


def _number(value: Any) -> float:
    number = math.nan if value is None else float(value)
    if math.isinf(number):
        raise ValueError("a reading is beyond all numbers")
    return number


def _outcome(trial: Mapping[str, Any]) -> TrialOutcome:
    return TrialOutcome(
        status=_STATUSES[trial["status"]],
        detail=whole(trial["detail"]),
        started_wall_s=_number(trial["started_wall_s"]),
        started_monotonic_s=_number(trial["started_monotonic_s"]),
        readings={str(name): _number(value) for name, value in trial["readings"].items()},
        answer=str(trial["answer"]),
        excerpt=str(trial["excerpt"]),
        left_behind=whole(trial["left_behind"]),
        samples={str(name): tuple(map(_number, values)) for name, values in trial["samples"].items()},
        harness={str(name): _number(value) for name, value in trial["harness"].items()},
        process_s=None if trial["process_s"] is None else _number(trial["process_s"]),
        measures={str(name): from_plain(Measure, one, "measures") for name, one in trial["measures"].items()},
        evidence=reduce(with_packet, map(evidence_of, trial["evidence"]), ()),
    )
