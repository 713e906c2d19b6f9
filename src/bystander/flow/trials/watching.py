"""Trials that are watched or counted: the same trial, run another way, with what was seen as its evidence."""

from __future__ import annotations

import shutil
from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from bystander.design import Closely, Counts, Status, TrialOutcome, Watched
from bystander.evidence import CLOSELY_KIND, COUNTS_KIND, STACKS_KIND, EvidenceKind, packed, stacks_of
from bystander.field import (
    CLOSELY,
    COUNTING,
    CloseHook,
    Launcher,
    ReadyCommand,
    Watcher,
    hooked,
    read_closely,
    read_counts,
)

__all__ = ["CloseRuns", "CountedRuns", "WatchedRuns"]

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


class _HookedRuns(ABC):
    """Runs commands whose Python processes load a hook, and reads what they left."""

    def __init__(self, launcher: Launcher) -> None:
        self._launcher = launcher
        self.output, self.errors, self.marks = launcher.output, launcher.errors, launcher.marks
        self._folder = Path(launcher.output).with_name("hooks")

    def _run(self, command: ReadyCommand, hook: str, variables: Mapping[str, str] | None = None) -> TrialOutcome:
        shutil.rmtree(self._folder, ignore_errors=True)
        self._folder.mkdir()
        slower = hooked(command, (hook,), self._folder, variables)
        outcome = self._launcher.run(replace(slower, limit_s=command.limit_s * _SLOWER))
        self._read(self._folder)
        shutil.rmtree(self._folder, ignore_errors=True)
        return outcome

    @abstractmethod
    def _read(self, folder: Path) -> None:
        """Read what the processes left in a folder."""

    def _told(self, outcome: TrialOutcome, block: int, kind: EvidenceKind, told: Counts | Closely) -> TrialOutcome:
        """Return a trial with what its processes told as evidence, where it ended well and any told something."""
        if not told.processes:
            return replace(outcome, evidence=())
        summary = {
            "block": block, "processes": told.processes, "problems": list(told.problems),
            "status": outcome.status.text, "elapsed_s": outcome.took_s,
            "items": {name[6:]: value for name, value in outcome.readings.items() if name.startswith("items:")},
        }  # fmt: skip
        evidence = (packed(kind, told, summary),) if outcome.status is Status.OK else ()
        return replace(outcome, evidence=evidence)


class CountedRuns(_HookedRuns):
    """Runs commands and counts the calls of each.

    Attributes
    ----------
    counts : Counts or None
        What the last one told.
    """

    counts: Counts | None = None

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Run one command to its end."""
        return self._run(command, COUNTING)

    def _read(self, folder: Path) -> None:
        self.counts = read_counts(folder)

    def told(self, outcome: TrialOutcome, block: int) -> TrialOutcome:
        """Return a trial with its calls as evidence, where it ended well and any were counted."""
        return self._told(outcome, block, COUNTS_KIND, self.counts or Counts((), (), 0))


class CloseRuns(_HookedRuns):
    """Runs commands and looks closely at the functions that are meant.

    Attributes
    ----------
    closely : Closely or None
        What the last one told.
    """

    closely: Closely | None = None

    def __init__(self, launcher: Launcher, hook: CloseHook) -> None:
        super().__init__(launcher)
        self._hook = hook

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Run one command to its end."""
        return self._run(command, CLOSELY, self._hook.variables)

    def _read(self, folder: Path) -> None:
        self.closely = read_closely(folder, self._hook.arguments)

    def told(self, outcome: TrialOutcome, block: int) -> TrialOutcome:
        """Return a trial with what was told as evidence, where it ended well and anything was."""
        return self._told(outcome, block, CLOSELY_KIND, self.closely or Closely((), 0))
