"""One trial with the steps around it, which are not timed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Protocol

import numpy as np

from bystander.design import Status, TrialOutcome
from bystander.field import ReadyCommand, ReadyWorkload, under_conditions
from bystander.flow.answers import Answers, Stamp
from bystander.flow.starts import Starts
from bystander.flow.told import with_told
from bystander.stats import median, quantile, warm_from

__all__ = ["Commands", "Runs", "TrialRunner"]

Commands = Mapping[tuple[int, int], ReadyWorkload]
_FEWEST_FOR_TAIL = 20  # samples, of which half at least are warm


class Runs(Protocol):
    """What runs a command: the launcher, or a stand-in for it."""

    output: Path
    marks: Path

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Run one command to its end; what it printed is then in the file `output`, what it told in `marks`."""


class TrialRunner:
    """Runs trials of one session; what comes before all trials of a workload runs once per arm and folder depth."""

    def __init__(
        self, launcher: Runs, commands: Commands, answers: Answers | None = None, starts: Starts | None = None
    ) -> None:
        self._launcher = launcher
        self._starts = starts
        self._commands = commands
        self._answers = answers
        self._before_all: dict[tuple[int, int, int], TrialOutcome | None] = {}

    def run(
        self,
        workload: int,
        arm: int,
        seen: Callable[[str], None] | None = None,
        conditions: Mapping[str, int] | None = None,
    ) -> TrialOutcome:
        """Run one trial of a workload under an arm, by their positions.

        A step that fails makes it a failed trial of its arm: before it, the trial does not start; after
        it, its reading does not count.

        Parameters
        ----------
        seen : callable, optional
            Is given the trial's answer as text, where it ended well and is compared as text.
        conditions : mapping, optional
            Those of the trial's block, for the trial and the steps around it.
        """
        ready = self._commands[workload, arm]
        place = workload, arm, (conditions or {}).get("folder depth", 0)
        if place not in self._before_all:
            self._before_all[place] = self._step("before_all", ready.before_all, conditions)
        failed = self._before_all[place] or self._step("before_each", ready.before_each, conditions)
        if failed:
            return failed
        command = under_conditions(ready.command, conditions or {})
        stale = self._answers.stamp(workload, command.folder) if self._answers else None
        spans = Path(command.folder, command.spans) if command.spans else None
        if self._starts:
            self._starts.before(workload, arm, command)
        outcome = self._launcher.run(command)
        if self._starts:
            outcome = self._starts.after(workload, arm, outcome)
        outcome = with_told(_reduced(outcome), self._launcher.marks, spans)
        if self._answers and outcome.status is Status.OK and not command.exit_code_is_answer:
            outcome = self._answered(self._answers, workload, command, outcome, stale, seen)
        failed = self._step("after_each", ready.after_each, conditions)
        if failed and outcome.status is Status.OK:
            return replace(outcome, status=Status.INVALID, answer="", excerpt=failed.excerpt)
        return outcome

    def _answered(
        self,
        answers: Answers,
        workload: int,
        command: ReadyCommand,
        outcome: TrialOutcome,
        stale: Stamp | None,
        seen: Callable[[str], None] | None,
    ) -> TrialOutcome:
        """Return a trial with the digest of its answer by the study's rule; one without its answer is invalid."""
        if answers.plain(workload) and not seen:
            return outcome  # its digest was taken while it was read
        file = answers.file(workload)
        fresh = not file or answers.stamp(workload, command.folder) != stale
        text = answers.read(workload, self._launcher.output, command.folder) if fresh else None
        if text is None:
            missing = f"it did not write the file of its answer, {file}"
            return replace(outcome, status=Status.INVALID, answer="", excerpt=missing)
        if seen:
            seen(text)
        return outcome if answers.plain(workload) else replace(outcome, answer=answers.digest(workload, text))

    def _step(
        self, name: str, command: ReadyCommand | None, conditions: Mapping[str, int] | None = None
    ) -> TrialOutcome | None:
        """Run a step; return the failed trial that it makes, or None when it ended well."""
        outcome = self._launcher.run(under_conditions(command, conditions or {})) if command else None
        if outcome is None or outcome.status is Status.OK:
            return None
        how = f"{outcome.status.text} {outcome.detail}" if outcome.detail else outcome.status.text
        said = f"the step {name} failed ({how})\n{outcome.excerpt}".strip()
        return TrialOutcome(
            Status.NOT_STARTED, 0, outcome.started_wall_s, outcome.started_monotonic_s, {}, excerpt=said
        )


def _reduced(outcome: TrialOutcome) -> TrialOutcome:
    """Return a trial of a callable with the medians of its warm samples as readings; others as they are.

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
