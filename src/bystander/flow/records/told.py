"""What is kept beside readings and told with a decision: accounts of inspections, and where answers part."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from bystander.archive import Archive
from bystander.design import (
    ACCOUNT,
    ANSWERS_APART,
    AccountTold,
    Comparison,
    Evidence,
    RecordHead,
    inspected_against,
    inspected_place,
    inspections,
)
from bystander.errors import UsageError
from bystander.evidence import content_of

__all__ = ["told_accounts", "told_answers"]


def told_accounts(archive: Path, head: RecordHead) -> dict[tuple[str, Comparison], AccountTold]:
    """Return, by row, the account of the newest inspection of both arms that told one.

    Raises
    ------
    UsageError
        When what is kept is damaged.
    """
    comparisons = {one.arms: one for one in head.study.all_comparisons}
    found: dict[tuple[str, Comparison], AccountTold] = {}
    runs = [run for run in inspections(head) if inspected_against(head, run) is not None]
    if not runs:
        return found
    with Archive(archive) as kept:
        for run in runs:
            workload, arm = inspected_place(head, run)
            comparison = comparisons.get((inspected_against(head, run) or 0, arm))
            for _, packet in kept.run_evidence(head.uuid, run.number, ACCOUNT) if comparison else ():
                told = _content(head, packet)
                if told.sentences and comparison:
                    found[head.study.workloads[workload].name, comparison] = told
    return found


def told_answers(archive: Path, head: RecordHead) -> dict[tuple[str, Comparison], tuple[str, ...]]:
    """Return, by row, where the answers of its arms first part, as far as that is kept; raises as `told_accounts`."""
    study, found = head.study, {}
    if not any(workload.answer for workload in study.workloads):
        return {}
    with Archive(archive) as kept:
        packets = kept.run_evidence(head.uuid, head.timed_run.number, ANSWERS_APART)
    for whose, packet in packets:
        apart = _content(head, packet)
        for one in study.all_comparisons:
            if one.candidate == whose.arm and (lines := apart.get(study.arms[one.reference].name)):
                found[study.workloads[whose.workload].name, one] = lines
    return found


def _content(head: RecordHead, packet: Evidence) -> Any:
    try:
        return content_of(packet)
    except ValueError as error:
        raise UsageError(f"record {head.name}: {error}") from None
