"""One trial with the steps around it, which are not timed."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path

from bystander.design import APART, Status, TrialOutcome, told_measure
from bystander.evidence import TrialFiles
from bystander.field import LeftError, ReadyCommand, ReadyWorkload, Runs, read_left, under_conditions
from bystander.flow.trials.answers import Answers, Comparison, Stamp
from bystander.flow.trials.collected import with_evidence, with_numbers
from bystander.flow.trials.kinds import joined_kind
from bystander.flow.trials.starts import Starts

__all__ = ["Commands", "TrialRunner"]

Commands = Mapping[tuple[int, int], ReadyWorkload]


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
        conditions: Mapping[str, int] | None = None,
        seen: Callable[[str], None] | None = None,
        by: Runs | None = None,
    ) -> TrialOutcome:
        """Run one trial of a workload under an arm, by their positions.

        A step that fails makes it a failed trial of its arm: before it, the trial does not start; after
        it, its reading does not count.

        Parameters
        ----------
        conditions : mapping, optional
            Those of the trial's block, for the trial and the steps around it.
        seen : callable, optional
            Is given the trial's answer as text, where it ended well and is compared as text.
        by : Runs, optional
            Runs the trial itself, not the steps around it.
        """
        ready = self._commands[workload, arm]
        prepared = workload, arm, (conditions or {}).get("folder depth", 0)
        if prepared not in self._before_all:
            self._before_all[prepared] = self._step("before_all", ready.before_all, conditions)
        failed = self._before_all[prepared] or self._step("before_each", ready.before_each, conditions)
        if failed:
            return failed
        command = under_conditions(ready.command, conditions or {})
        stale = self._answers.stamp(workload, command.folder) if self._answers else None
        kind = joined_kind(ready.kind)
        if self._starts:
            self._starts.before(workload, arm, command)
        outcome = kind.in_field.run(by or self._launcher, command)
        if self._starts:
            outcome = self._starts.after(workload, arm, outcome)
        spans = Path(command.folder, command.spans) if command.spans else None
        files = TrialFiles(self._launcher.output, self._launcher.marks, spans, command.told)
        outcome = _with_told(kind.reduced(outcome), files)
        if command.numbers and outcome.status is Status.OK:
            outcome = self._with_numbers(command, outcome)
        if self._answers and outcome.status is Status.OK and not command.exit_code_is_answer:
            outcome = self._answered(self._answers, workload, command, outcome, stale, seen, ready.compare)
        failed = self._step("after_each", ready.after_each, conditions)
        if failed and outcome.status is Status.OK:
            return outcome.invalid(failed.excerpt)
        return outcome

    def _with_numbers(self, command: ReadyCommand, outcome: TrialOutcome) -> TrialOutcome:
        """Return a trial with the numbers that it printed."""
        try:
            files = (self._launcher.output, self._launcher.errors)
            return with_numbers(outcome, command.numbers, files, command.output_bytes)
        except LeftError as error:
            return outcome.invalid(str(error))

    def _answered(
        self,
        answers: Answers,
        workload: int,
        command: ReadyCommand,
        outcome: TrialOutcome,
        stale: Stamp | None,
        seen: Callable[[str], None] | None,
        compare: ReadyCommand | None,
    ) -> TrialOutcome:
        """Return a trial with the digest of its answer by the study's rule; one without its answer is invalid."""
        if answers.plain(workload) and not seen:
            return outcome  # its digest was taken while it was read
        file = answers.file(workload)
        fresh = not file or answers.stamp(workload, command.folder) != stale
        try:
            if compare and fresh and (data := answers.data(workload, self._launcher.output, command)) is not None:
                return self._compared(answers, workload, compare, outcome, data)
            text = answers.read(workload, self._launcher.output, command) if fresh else None
        except LeftError as error:
            return outcome.invalid(str(error))
        if text is None:
            return outcome.invalid(f"it did not write the file of its answer, {file}")
        if seen:
            seen(text)
        return outcome if answers.plain(workload) else replace(outcome, answer=answers.digest(workload, text))

    def _compared(
        self,
        answers: Answers,
        workload: int,
        compare: ReadyCommand,
        outcome: TrialOutcome,
        data: bytes,
    ) -> TrialOutcome:
        """Return a trial with what stands for its answer by the program that compares, and how far it is apart.

        Raises
        ------
        LeftError
            When the program does not say whether they are the same: by exit code 0, or 1 where they are not.
        """

        def run(reference: Path, candidate: Path) -> Comparison:
            paths = {"{reference}": str(reference), "{candidate}": str(candidate)}
            argv = tuple(_with_paths(word, paths) for word in compare.argv)
            done = self._launcher.run(replace(compare, argv=argv))
            if done.status is Status.OK or (done.status is Status.EXIT and done.detail == 1):
                printed = read_left(self._launcher.output, compare.output_bytes, "what it printed") or b""
                return Comparison.of(done.status is Status.OK, printed.decode("utf-8", "replace"))
            raise LeftError(f"answer.compare failed ({done.how})\n{done.excerpt}".strip())

        answer, apart = answers.compared(workload, data, run)
        readings, measures = {**outcome.readings, APART: apart}, {**outcome.measures, APART: told_measure(APART)}
        return replace(outcome, answer=answer, readings=readings, measures=measures)

    def _step(
        self, name: str, command: ReadyCommand | None, conditions: Mapping[str, int] | None = None
    ) -> TrialOutcome | None:
        """Run a step; return the failed trial that it makes, or None when it ended well."""
        outcome = self._launcher.run(under_conditions(command, conditions or {})) if command else None
        if outcome is None or outcome.status is Status.OK:
            return None
        said = f"the step {name} failed ({outcome.how})\n{outcome.excerpt}".strip()
        return TrialOutcome(
            Status.NOT_STARTED, 0, outcome.started_wall_s, outcome.started_monotonic_s, {}, excerpt=said
        )


def _with_paths(word: str, paths: Mapping[str, str]) -> str:
    for name, path in paths.items():
        word = word.replace(name, path)
    return word


def _with_told(outcome: TrialOutcome, files: TrialFiles) -> TrialOutcome:
    """Return a trial with what it told of itself; one that told too much, or no file, has failed."""
    try:
        return with_evidence(outcome, files)
    except LeftError as error:
        return outcome.invalid(str(error)) if outcome.status is Status.OK else outcome
