"""What inspections of both arms told, for decisions and reports."""

from __future__ import annotations

from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    ACCOUNT,
    AccountTold,
    Comparison,
    RecordHead,
    inspected_against,
    inspected_place,
    inspections,
)
from bystander.errors import UsageError
from bystander.evidence import content_of

__all__ = ["told_accounts"]


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
                try:
                    told = content_of(packet)
                except ValueError as error:
                    raise UsageError(f"record {head.name}: {error}") from None
                if told.sentences and comparison:
                    found[head.study.workloads[workload].name, comparison] = told
    return found
