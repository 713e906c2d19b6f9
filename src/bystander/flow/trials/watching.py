"""Trials that are watched or counted: the same trial, run another way, with what was seen as its evidence."""

from __future__ import annotations

import shutil
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from bystander.design import Counts, Status, TrialOutcome, Watched
from bystander.evidence import COUNTS_KIND, STACKS_KIND, packed, stacks_of
from bystander.field import COUNTING, Launcher, ReadyCommand, Watcher, hooked, read_counts

__all__ = ["CountedRuns", "WatchedRuns"]

_SLOWER = 12  # counting makes a trial so many times longer, at most: its limit grows with it


class WatchedRuns:
    """Runs commands and watches each.

    Attributes
    ----------
    watched : Watched or None
        What was seen of the last one.
    """

    def __init__(self, launcher: Launcher, way: str, tick_ns: int, seed: int) -> None:
        self._launcher, self._way, self._tick_ns, self._seed = launcher, way, tick_ns, seed
        self.output, self.errors, self.marks = launcher.output, launcher.errors, launcher.marks
        self.watched: Watched | None = None

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Run one command to its end."""
        watcher = Watcher(self._way, self._tick_ns, self._seed)
        outcome = self._launcher.run(command, watcher)
        self.watched = watcher.watched
        if outcome.disturbed and outcome.status is Status.OK:  # no block is run again here: its trial does not count
            return outcome.invalid(outcome.disturbed)
        return outcome

    def told(self, outcome: TrialOutcome, block: int) -> TrialOutcome:
        """Return a trial with what was seen of it as its only evidence: phases of a watched trial are no timed ones."""
        if self.watched is None:
            return replace(outcome, evidence=())
        try:
            packet = packed(STACKS_KIND, stacks_of(self.watched), _summary(self.watched, outcome, block))
        except ValueError as error:
            said = f"what was seen of it is too much: {error}; a longer --tick takes less"
            return replace(outcome.invalid(said), evidence=())
        return replace(outcome, evidence=(packet,))


def _summary(watched: Watched, outcome: TrialOutcome, block: int) -> Mapping[str, Any]:
    return {
        "block": block, "way": watched.way, "tick_s": watched.period_ns / 1e9, "status": outcome.status.text,
        "elapsed_s": outcome.took_s, "readings": int(watched.at_ns.size), "ticks": watched.ticks,
        "missed": watched.missed, "torn": watched.torn, "lost": watched.lost, "problems": dict(watched.problems),
        "unwatched_s": watched.unwatched_ns / 1e9 if watched.interpreters else None,
        "interpreters": list(watched.interpreters), "answer": outcome.answer,
        "said": (outcome.excerpt.splitlines() or [""])[-1][:200],
        "items": {name[6:]: value for name, value in outcome.readings.items() if name.startswith("items:")},
    }  # fmt: skip


class CountedRuns:
    """Runs commands and counts the calls of each.

    Attributes
    ----------
    counts : Counts or None
        What the last one told.
    """

    def __init__(self, launcher: Launcher) -> None:
        self._launcher = launcher
        self.output, self.errors, self.marks = launcher.output, launcher.errors, launcher.marks
        self._folder = Path(launcher.output).with_name("hooks")
        self.counts: Counts | None = None

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Run one command to its end."""
        shutil.rmtree(self._folder, ignore_errors=True)
        self._folder.mkdir()
        slower = replace(hooked(command, (COUNTING,), self._folder), limit_s=command.limit_s * _SLOWER)
        outcome = self._launcher.run(slower)
        self.counts = read_counts(self._folder)
        shutil.rmtree(self._folder, ignore_errors=True)
        return outcome

    def told(self, outcome: TrialOutcome, block: int) -> TrialOutcome:
        """Return a trial with its calls as evidence, where it ended well and any were counted."""
        counts = self.counts
        if counts is None or not counts.processes:
            return replace(outcome, evidence=())
        summary = {
            "block": block, "processes": counts.processes, "problems": list(counts.problems),
            "status": outcome.status.text, "elapsed_s": outcome.took_s,
            "items": {name[6:]: value for name, value in outcome.readings.items() if name.startswith("items:")},
        }  # fmt: skip
        evidence = (packed(COUNTS_KIND, counts, summary),) if outcome.status is Status.OK else ()
        return replace(outcome, evidence=evidence)
