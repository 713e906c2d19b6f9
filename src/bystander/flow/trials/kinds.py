"""Each kind of workload, joined: what it says in a study, how it is made ready and run, and what its samples become."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from bystander.design import (
    Command,
    Status,
    TimedCallable,
    TrialOutcome,
    Workload,
    WorkloadKind,
    kinds,
    register_workload_kind,
)
from bystander.field import KindInField, ReadyCommand, Runs, kind_in_field, register_in_field
from bystander.stats import median, quantile, warm_from

__all__ = ["JoinedKind", "joined_kind", "register_kind"]

_FEWEST_FOR_TAIL = 20  # samples, of which half at least are warm


def _as_it_is(outcome: TrialOutcome) -> TrialOutcome:
    return outcome


def _calibrated_already(workload: Workload, _runs: Runs, _command: ReadyCommand) -> Workload:
    return workload


@dataclass(frozen=True)
class JoinedKind:
    """One kind, whole.

    Attributes
    ----------
    reduced : callable
        From a trial as it ended to one with its readings.
    calibrated : callable
        From a workload, what runs trials and its ready command on the reference to the workload with what is found
        once, before the first trial.
    """

    in_study: WorkloadKind
    in_field: KindInField
    reduced: Callable[[TrialOutcome], TrialOutcome] = _as_it_is
    calibrated: Callable[[Workload, Runs, ReadyCommand], Workload] = _calibrated_already


def reduced_samples(outcome: TrialOutcome) -> TrialOutcome:
    """Return a trial of a callable with the medians of its warm samples as readings.

    What was read of the whole process (memory, faults, switches) stays; the split of its CPU time and its
    delay in the run queue tell nothing of an iteration.
    """
    if not outcome.samples:
        return outcome
    elapsed = np.array(outcome.samples["elapsed"])
    first = warm_from(elapsed)
    readings = dict(outcome.readings)
    for name in ("user_cpu", "system_cpu", "run_queue_delay", "unqueued"):
        readings.pop(name, None)
    readings |= {name: median(np.array(values[first:])) for name, values in outcome.samples.items()}
    if elapsed.size >= _FEWEST_FOR_TAIL:
        readings["slow_samples"] = quantile(elapsed[first:], 0.95)
    readings["waiting"] = max(0.0, readings["elapsed"] - readings["cpu"])
    return replace(outcome, readings=readings, process_s=outcome.took_s)


def _with_iterations(workload: Workload, runs: Runs, command: ReadyCommand) -> Workload:
    """Return a callable with the iterations of a sample; one that fails gets one, and is told when it is tried."""
    timed = workload.what
    assert isinstance(timed, TimedCallable)
    if timed.iterations:
        return workload
    outcome = runs.run(command)
    iterations = int(outcome.harness.get("iterations", 1)) if outcome.status is Status.OK else 1
    return replace(workload, what=replace(timed, iterations=iterations))


_OWN: dict[str, tuple[Callable[[TrialOutcome], TrialOutcome], Callable[[Workload, Runs, ReadyCommand], Workload]]] = {
    Command.kind: (_as_it_is, _calibrated_already),
    TimedCallable.kind: (reduced_samples, _with_iterations),
}


def register_kind(kind: JoinedKind) -> None:
    """Add a kind of workload: to studies, to the field, and here."""
    register_workload_kind(kind.in_study)
    register_in_field(kind.in_study.name, kind.in_field)
    _OWN[kind.in_study.name] = (kind.reduced, kind.calibrated)


def joined_kind(name: str) -> JoinedKind:
    """Return a kind by its name."""
    return JoinedKind(kinds()[name], kind_in_field(name), *_OWN[name])
