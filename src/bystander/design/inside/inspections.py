"""The inspections of a record: their names, and of what they are."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from bystander.design.inside.stacks import COUNTED, INSPECTED
from bystander.design.records.runs import Run
from bystander.design.records.trials import RecordHead, run_name
from bystander.design.records.words import State
from bystander.units import moment_text

__all__ = ["inspected_against", "inspected_place", "inspection_facts", "inspection_lines", "inspections"]


def inspections(head: RecordHead) -> list[Run]:
    """Return the inspections of a record, the oldest first."""
    return [run for run in head.runs if run.purpose == INSPECTED]


def inspected_place(head: RecordHead, run: Run) -> tuple[int, int]:
    """Return the positions of the workload and the arm that were looked into; the first where they make no sense."""
    workload, arm = run.options.get("workload"), run.options.get("arm")
    if not isinstance(workload, int) or not isinstance(arm, int):
        return 0, 0
    if 0 <= workload < len(head.study.workloads) and 0 <= arm < len(head.study.arms):
        return workload, arm
    return 0, 0


def inspected_against(head: RecordHead, run: Run) -> int | None:
    """Return the position of the reference that the arm was held against; None where one state was looked into."""
    against = run.options.get("against")
    fits = isinstance(against, int) and 0 <= against < len(head.study.arms)
    return against if fits and against != inspected_place(head, run)[1] else None


def inspection_facts(head: RecordHead, run: Run) -> Mapping[str, Any]:
    """Return an inspection in short: name, workload, arm, state, when it began, and whether calls were counted."""
    workload, arm = inspected_place(head, run)
    counted = any(
        one.purpose == COUNTED and one.options.get("inspection") == run.number and one.state == State.COMPLETE
        for one in head.runs
    )
    against = inspected_against(head, run)
    return {
        "inspection": run_name(head, run), "workload": head.study.workloads[workload].name,
        "arm": head.study.arms[arm].name,
        "against": None if against is None else head.study.arms[against].name, "state": run.state,
        "began_wall_s": run.began_wall_s, "counted": counted,
    }  # fmt: skip


def inspection_lines(head: RecordHead) -> list[str]:
    """Return a line for each inspection of a record."""
    lines = []
    for run in inspections(head):
        facts = inspection_facts(head, run)
        when = f", {moment_text(run.began_wall_s)}" if run.began_wall_s else ""
        state = "" if run.state == State.COMPLETE else ", unfinished"
        calls = ", calls counted" if facts["counted"] else ""
        arms = f"{facts['against']} and {facts['arm']}" if facts["against"] else facts["arm"]
        lines.append(f"{facts['inspection']}: {facts['workload']} under {arms}{when}{calls}{state}")
    return lines
