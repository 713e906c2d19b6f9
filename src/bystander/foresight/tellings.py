"""What programs told of themselves when they were tried: what there is, and where the arms did other work."""

from __future__ import annotations

import math
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from bystander.design import (
    TIMELINE,
    UNMARKED,
    UNTIL_READY,
    Comparison,
    Measure,
    Study,
    TrialOutcome,
    is_told,
    unbraced,
)
from bystander.errors import FirstTryError, StudyError, UsageError
from bystander.foresight.tried import Tried
from bystander.units import counted, listed, quantity_text, share_text

__all__ = [
    "printed_sentences",
    "refuse_first_try",
    "require_measure",
    "told_sentences",
    "unprinted_sentences",
    "work_sentences",
]

_MOST_NAMES = 6


def require_measure(study: Study, tried: Sequence[Tried]) -> None:
    """Raise StudyError when a trial that ended well did not tell what the study decides on."""
    if not is_told(study.measure):
        return
    problems = []
    for one in tried:
        if one.well and math.isnan(one.outcome.readings.get(study.measure, math.nan)):
            known = [name for name, measure in one.outcome.measures.items() if measure.decided]
            instead = f"it told {', '.join(known[:_MOST_NAMES])}" if known else "it told nothing of itself"
            workload, arm = study.workloads[one.workload].name, study.arms[one.arm].name
            if study.measure == UNTIL_READY and (pattern := study.workloads[one.workload].ready.pattern):
                problems.append(
                    f"{workload} under {arm} ended, and printed no line that {pattern} matches; a program that holds "
                    "its lines back in a pipe must flush them (python3 -u, stdbuf -oL)"
                )
                continue
            problems.append(f'measure: "{study.measure}" was not told by {workload} under {arm}; {instead}')
    if problems:
        raise StudyError(problems)


_SHELL = ("|", "<", ">", ">>", "&&", "||", ";", "2>&1")
_LINES = 8


def refuse_first_try(study: Study, tried: Sequence[Tried]) -> None:
    """Refuse what was typed without a study and cannot mean what it says, before anything is recorded of it.

    Raises
    ------
    FirstTryError
        When its one arm fails.
    UsageError
        When a number is looked for that nothing printed.
    """
    if len(study.arms) == 1:
        for one in tried:
            if not one.well:
                raise FirstTryError(_first_try(study, one))
    if sentences := unprinted_sentences(study, tried):
        raise UsageError(f"--number: {sentences[0].removesuffix('.')}")


def _first_try(study: Study, one: Tried) -> str:
    """Return how a command failed, the end of what it printed, and the mend where a shell was meant."""
    workload = study.workloads[one.workload]
    said = "".join(f"\n  {line}" for line in one.outcome.excerpt.splitlines()[-_LINES:])
    colon = ":" if said else ""
    text = f"{workload.name} fails in its first try ({one.outcome.how}); nothing was recorded{colon}{said}"
    words = shlex.split(unbraced(workload.template)) if workload.template else []
    if not set(words) & set(_SHELL):
        return text
    line = " ".join(word if word in _SHELL else shlex.quote(word) for word in words)
    return f"{text}\nNo shell reads the command; this one does:\n  bystander observe -- sh -c {shlex.quote(line)}"


def unprinted_sentences(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Return where a number that a study looks for in what is printed was not found, one sentence each."""
    found = []
    for one in tried:
        workload = study.workloads[one.workload]
        for name, number in workload.numbers.items() if one.well else ():
            if math.isnan(one.outcome.readings.get(f"reading:{name}", math.nan)):
                found.append(
                    f'{workload.name} prints no number "{name}" under {study.arms[one.arm].name}: nothing in its '
                    f"output or errors matches {number.pattern}."
                )
    return found


def printed_sentences(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Return, for each workload with numbers that it prints, what was found under the reference."""
    found = []
    for one in tried:
        workload = study.workloads[one.workload]
        if one.well and one.arm == study.reference_at and workload.numbers:
            read = {name: one.outcome.readings.get(f"reading:{name}", math.nan) for name in workload.numbers}
            units = {measure.label: measure.unit for measure in one.outcome.measures.values()}
            parts = [f"{name} {quantity_text(v, units[name])}" for name, v in read.items() if not math.isnan(v)]
            found += [f"{workload.name} prints {listed(parts, _MOST_NAMES)}."] if parts else []
    return found


def told_sentences(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Return, for each workload whose program told something under the reference, what that is."""
    found = []
    for one in tried:
        summary = one.outcome.summary(TIMELINE)
        if one.arm == study.reference_at and summary is not None:
            parts = [part for part in (_phases(one.outcome), *_numbers(one.outcome)) if part]
            problems = [f"{what} ({count})" for what, count in summary["problems"].items()]
            parts += [f"what went wrong: {', '.join(problems)}"] if problems else []
            found.append(f"{study.workloads[one.workload].name} tells: {'; '.join(parts) or 'nothing of use'}.")
    return found


def _phases(outcome: TrialOutcome) -> str:
    names = [name.partition(":")[2] for name in outcome.measures if name.startswith("phase:")]
    if not names:
        return ""
    phases = "phases " + listed(names, _MOST_NAMES)
    if outcome.took_s and UNMARKED in outcome.readings:
        phases += f", which cover {share_text(1 - outcome.readings[UNMARKED] / outcome.took_s)} of a trial"
    return phases


def _numbers(outcome: TrialOutcome) -> list[str]:
    """Return its items, its own readings, and its streams of intervals, each in short."""
    items, readings, streams = [], [], []
    for name, measure in outcome.measures.items():
        kind, _, rest = name.partition(":")
        if kind == "items":
            items.append(f"{quantity_text(outcome.readings[name], '')} {rest}")
        elif kind == "reading":
            readings.append(f"{rest} {quantity_text(outcome.readings[name], measure.unit)}")
        elif kind == "interval" and rest.endswith(":count"):
            stream = rest.removesuffix(":count")
            late = outcome.readings.get(f"interval:{stream}:deadline")
            by = f", due in {quantity_text(late, 's')}" if late else ""
            streams.append(f"{counted(int(outcome.readings[name]), 'interval')} {stream}{by}")
    return [listed(part, _MOST_NAMES) for part in (items, readings, streams)]


@dataclass(frozen=True)
class _OtherWork:
    what: str
    reference: str
    candidate: str


def work_sentences(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Return where an arm did not do the same work as the one that it is compared with."""
    found, outcomes = [], {(one.workload, one.arm): one.outcome for one in tried if one.well}
    for one in tried:
        for comparison in _of_candidate(study, one.arm):
            reference = outcomes.get((one.workload, comparison.reference))
            if one.well and reference and (others := _others(reference, one.outcome)):
                names = study.names(comparison)
                differences = "; ".join(f"{other.what} {other.candidate} against {other.reference}" for other in others)
                workload = study.workloads[one.workload].name
                found.append(f"{workload}: {names[1]} does other work than {names[0]}: {differences}.")
    return found


def _of_candidate(study: Study, arm: int) -> list[Comparison]:
    return [comparison for comparison in study.all_comparisons if comparison.candidate == arm]


def _others(reference: TrialOutcome, candidate: TrialOutcome) -> list[_OtherWork]:
    measures: Mapping[str, Measure] = {**candidate.measures, **reference.measures}
    found = []
    for name in {**reference.measures, **candidate.measures}:
        measure = measures[name]
        amounts = [outcome.readings.get(name) for outcome in (reference, candidate)]
        if measure.is_work and amounts[0] != amounts[1]:
            texts = ["none" if amount is None else quantity_text(amount, measure.unit) for amount in amounts]
            found.append(_OtherWork(measure.label, *texts))
    return found
