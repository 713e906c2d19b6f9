"""What programs told of themselves when they were tried: what there is, and where the arms did other work."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from bystander.design import UNMARKED, Status, Study, TrialOutcome, is_told
from bystander.errors import StudyError
from bystander.units import counted, listed, quantity_text, share_text

if TYPE_CHECKING:
    from bystander.flow.rehearsal import Tried

__all__ = ["require_measure", "told_sentences", "work_sentences"]

_MOST_NAMES = 6


def require_measure(study: Study, tried: Sequence[Tried]) -> None:
    """Raise StudyError when a trial that ended well did not tell what the study decides on."""
    if not is_told(study.measure):
        return
    problems = []
    for one in tried:
        if one.outcome.status is Status.OK and study.measure not in one.outcome.readings:
            known = [name for name, measure in one.outcome.measures.items() if measure.decided]
            told = f"it told {', '.join(known[:_MOST_NAMES])}" if known else "it told nothing of itself"
            workload, arm = study.workloads[one.workload].name, study.arms[one.arm].name
            problems.append(f'measure: "{study.measure}" was not told by {workload} under {arm}; {told}')
    if problems:
        raise StudyError(problems)


def told_sentences(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Return, for each workload whose program told something under the reference, what that is."""
    found = []
    for one in tried:
        if one.arm == 0 and one.outcome.told:
            parts = [part for part in (_phases(one.outcome), *_numbers(one.outcome)) if part]
            problems = [f"{what} ({count})" for what, count in one.outcome.told.problems.items()]
            parts += [f"what went wrong: {', '.join(problems)}"] if problems else []
            found.append(f"{study.workloads[one.workload].name} tells: {'; '.join(parts) or 'nothing of use'}.")
    return found


def _phases(outcome: TrialOutcome) -> str:
    names = [name.partition(":")[2] for name in outcome.measures if name.startswith("phase:")]
    if not names:
        return ""
    told = "phases " + listed(names, _MOST_NAMES)
    if outcome.took_s and UNMARKED in outcome.readings:
        told += f", which cover {share_text(1 - outcome.readings[UNMARKED] / outcome.took_s)} of a trial"
    return told


def _numbers(outcome: TrialOutcome) -> list[str]:
    told, streams = outcome.told, []
    assert told
    for name, values in told.intervals.items():
        late = told.deadlines.get(name)
        by = f", due in {quantity_text(late, 's')}" if late else ""
        streams.append(f"{counted(values.size, 'interval')} {name}{by}")
    items = [f"{quantity_text(count, '')} {name}" for name, count in told.items.items()]
    readings = [f"{name} {quantity_text(value, unit)}" for name, (value, unit, _) in told.readings.items()]
    return [listed(part, _MOST_NAMES) for part in (items, readings, streams)]


@dataclass(frozen=True)
class _Other:
    what: str
    reference: str
    candidate: str


def work_sentences(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Return where an arm did not do the same work as the reference."""
    found, reference = [], {}
    for one in tried:
        if one.outcome.status is not Status.OK:
            continue
        if one.arm == 0:
            reference[one.workload] = one.outcome
        elif others := _others(reference.get(one.workload), one.outcome):
            workload, arm = study.workloads[one.workload].name, study.arms[one.arm].name
            told = "; ".join(f"{other.what} {other.candidate} against {other.reference}" for other in others)
            found.append(f"{workload}: {arm} does other work than {study.reference.name}: {told}.")
    return found


def _others(reference: TrialOutcome | None, candidate: TrialOutcome) -> list[_Other]:
    if reference is None:
        return []
    measures: Mapping[str, object] = {**reference.measures, **candidate.measures}
    found = []
    for name in measures:
        measure = reference.measures.get(name) or candidate.measures[name]
        amounts = [outcome.readings.get(name) for outcome in (reference, candidate)]
        if measure.is_work and amounts[0] != amounts[1]:
            told = ["none" if amount is None else quantity_text(amount, measure.unit) for amount in amounts]
            found.append(_Other(measure.label, *told))
    return found
