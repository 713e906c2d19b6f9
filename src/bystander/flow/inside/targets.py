"""What an inspection of two states is of: rows that changed, those that are named, or the rest of an earlier one."""

from __future__ import annotations

from collections.abc import Sequence

from bystander.archive import Archive
from bystander.design import (
    Given,
    RecordHead,
    Run,
    State,
    Study,
    chosen_names,
    command_line,
    inspected_against,
    inspected_place,
    inspections,
)
from bystander.errors import InspectionError, UsageError
from bystander.flow.chains.bisected import found_pairs
from bystander.flow.observer import Observer
from bystander.units import listed
from bystander.verdicts import Row, decide

__all__ = ["Target", "compared_record", "planned_targets", "target_of", "targets_of", "unfinished"]

Target = tuple[int, int, int]  # positions of workload, reference and candidate


def compared_record(kept: Archive, name: str | None) -> RecordHead:
    """Return a record by name; without one the newest that has timed trials, or else the newest."""
    if name is not None:
        return kept.head(name)
    return next((head for head in reversed(kept.heads()) if not head.only_inspected), None) or kept.head(None)


def targets_of(kept: Archive, head: RecordHead, only: Sequence[str], observer: Observer, given: Given) -> list[Target]:
    """Return what is looked into: rows that changed, the worst first, or those of the workloads that are named."""
    study = head.study
    if head.is_search and (pairs := found_pairs(kept, head)):
        meant = set(chosen_names(study.workloads, list(only), f"record {head.name}")) if only else set()
        return [pair for pair in pairs if not only or study.workloads[pair[0]].name in meant]
    if not study.comparisons:
        raise UsageError(f"record {head.name} has one arm, and nothing to hold it against; name it with --arm")
    places = {workload.name: place for place, workload in enumerate(study.workloads)}
    wanted = set(chosen_names(study.workloads, list(only), f"record {head.name}")) if only else set(places)
    if head.only_inspected:
        if not only:
            raise InspectionError(
                f"record {head.name} has no timed trials, so that nothing changed; name workloads with --only"
            )
        return [(places[name], one.reference, one.candidate) for name in sorted(wanted) for one in study.comparisons]
    rows = [row for row in decide(kept.load(head.uuid)).primary if row.workload in wanted]
    if study.chain:
        rows = _of_chain(rows, study)
    changed = [row for row in rows if row.changed]
    if not changed and not only:
        again = command_line("inspect", head.name, "--only", study.workloads[0].name, given=given)
        raise InspectionError(
            f"no change is shown in record {head.name}, so that nothing is looked into; name a workload: {again}"
        )
    if only and (same := [row.workload for row in rows if not row.changed]):
        names = listed(list(dict.fromkeys(same)), 4)
        observer.remark(f"No change of the whole is shown for {names}; it is looked into all the same.")
    chosen = rows if only else changed
    return [(places[row.workload], row.comparison.reference, row.comparison.candidate) for row in chosen]


def _of_chain(rows: Sequence[Row], study: Study) -> list[Row]:
    """Return the rows of a chain that are worth a look: links that changed, and where none did, its total."""
    found = []
    for workload in dict.fromkeys(row.workload for row in rows):
        mine = [row for row in rows if row.workload == workload]
        changed = [row for row in mine if row.changed and row.comparison in study.links]
        found += changed or [row for row in mine if row.comparison not in study.links] or mine
    return found


def unfinished(kept: Archive, name: str | None) -> tuple[RecordHead, Run]:
    """Return the newest inspection of two states that was not finished."""
    heads = [kept.head(name)] if name else list(reversed(kept.heads()))
    for head in heads:
        for run in reversed(inspections(head)):
            if inspected_against(head, run) is not None and run.options.get("together") and _is_open(head, run):
                return head, run
    where = f"record {heads[0].name}" if name else f"{kept.path}"
    raise UsageError(f"{where} has no unfinished inspection of two states; there is nothing to resume")


def _is_open(head: RecordHead, run: Run) -> bool:
    if run.state != State.COMPLETE:
        return True
    begun = {
        target_of(head, one) for one in inspections(head) if one.options.get("together") == run.options["together"]
    }
    return not set(planned_targets(head, run)) <= begun


def target_of(head: RecordHead, run: Run) -> Target:
    """Return what an inspection of two states is of."""
    workload, arm = inspected_place(head, run)
    return workload, inspected_against(head, run) or 0, arm


def planned_targets(head: RecordHead, run: Run) -> list[Target]:
    """Return what one command was to look into, as far as that makes sense in its record."""
    sizes = len(head.study.workloads), len(head.study.arms), len(head.study.arms)
    told = run.options.get("planned")
    found = [
        (one[0], one[1], one[2])
        for one in (told if isinstance(told, list) else [])
        if isinstance(one, list)
        and len(one) == 3
        and all(isinstance(k, int) and 0 <= k < size for k, size in zip(one, sizes, strict=True))
    ]
    return found or [target_of(head, run)]
