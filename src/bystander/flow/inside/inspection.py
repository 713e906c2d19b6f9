"""One state of a workload is looked into: watched trials beside unwatched ones, and trials whose calls are counted."""

from __future__ import annotations

import random
from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

from bystander.archive.writer import RecordWriter
from bystander.design import (
    PlannedBlock,
    PlannedTrial,
    Status,
    Study,
    TrialOutcome,
    Watched,
    Whose,
    block_conditions,
    workload_key,
)
from bystander.evidence import UNWATCHED_KIND, packed
from bystander.field import FoundWay, Launcher
from bystander.flow.inside.asked import Asked
from bystander.flow.observer import Observer
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.trials.trial import TrialRunner
from bystander.flow.trials.watching import CountedRuns, WatchedRuns
from bystander.units import duration_text

__all__ = ["COUNTED_TRIALS", "SLOWER", "USUAL_TICK_NS", "Inspection", "quick_tick_ns", "saw_python"]

ENOUGH_READINGS = 2000
USUAL_TICK_NS = 1_000_000
_READINGS_A_TRIAL = 1100  # that a trial should give, where the clock can
_FEWEST_PAIRS, _MOST_PAIRS, _PAIRS_S = 3, 25, 12.0
_BARE_UP_TO_S = 20.0  # a trial longer than that is not run again only to know what watching cost
_COUNTS_UP_TO_S, SLOWER = 60.0, 10  # counting follows by itself where a trial so many times slower fits in there
COUNTED_TRIALS = 2
_LONG_S = 4.0


def saw_python(watched: Watched | None) -> bool:
    """Whether a Python ran in a watched trial, one that could be read or one that could not."""
    return bool(watched and (watched.interpreters or any("Python" in one for one in watched.problems)))


def quick_tick_ns(way: FoundWay, took_s: float) -> int:
    """Return how quick the clock must be, in ns, for a trial that takes so long to give readings enough."""
    return way.tick_ns(min(USUAL_TICK_NS, round(took_s * 1e9 / _READINGS_A_TRIAL)))


class _Seen(NamedTuple):
    """A watched trial: what watched it, how it ended, and on how many readings it rests."""

    runs: WatchedRuns
    outcome: TrialOutcome
    readings: int


@dataclass
class Inspection:
    """The trials of one inspection."""

    study: Study
    workload: int
    arm: int
    trials: TrialRunner
    launcher: Launcher
    interrupts: Interrupts
    way: FoundWay
    asked: Asked
    observer: Observer
    seed: int
    took_s: float = 0.0
    ended_well: bool = True
    python: bool = True

    def watch(self, writer: RecordWriter, number: int) -> None:
        """Run watched trials, and as many that are not, until there are readings enough."""
        by_hand = ", by hand: end it when you have seen enough" if self.asked.by_hand else ""
        self.observer.doing(f"watching {self._name}{by_hand}")
        tick_ns = self.way.tick_ns(round((self.asked.tick_s or 0) * 1e9) or USUAL_TICK_NS)
        first = self._watched(tick_ns, 0)
        pairs = self._one(writer, first) if self._enough(first) else self._several(writer, first, tick_ns)
        if pairs:
            packet = packed(UNWATCHED_KIND, pairs, {"pairs": len(pairs)})
            writer.evidence(Whose(number, self.workload, self.arm), [packet])
        self.took_s = first.outcome.took_s
        self.ended_well = first.outcome.status is Status.OK
        self.python = saw_python(first.runs.watched)

    def _one(self, writer: RecordWriter, seen: _Seen) -> list[tuple[float, float]]:
        """Keep a trial that is a view by itself; return it with one that was not watched, where that is not long."""
        self._write(writer, 0, seen)
        asked, outcome = self.asked, seen.outcome
        long = outcome.status is not Status.OK or outcome.took_s > _BARE_UP_TO_S
        if long or asked.by_hand or asked.trials or self.interrupts.asked:
            return []
        if outcome.took_s > _LONG_S:
            self.observer.doing(f"once more unwatched, {self._about(outcome.took_s)}: what did watching cost?")
        bare = self._bare()
        well = bare.status is Status.OK and not self.interrupts.asked
        return [(outcome.took_s, bare.took_s)] if well else []

    def _several(self, writer: RecordWriter, first: _Seen, tick_ns: int) -> list[tuple[float, float]]:
        """Watch short trials, each beside one that is not, in an order drawn by chance; return the times of both.

        The first one is not kept: it was what comes before the first trial, and said how quick the clock must be.
        """
        if self.asked.tick_s is None:
            tick_ns = quick_tick_ns(self.way, first.outcome.took_s)
        self.observer.doing(
            f"a trial takes {duration_text(first.outcome.took_s, 2)}: watching some, beside as many unwatched ones"
        )
        draw = random.Random(self.seed)
        pairs: list[tuple[float, float]] = []
        readings, spent_s, block = 0, 0.0, 0
        while self._more(readings, block, spent_s):
            bare = self._bare() if draw.random() < 0.5 else None
            seen = self._watched(tick_ns, block)
            self._write(writer, block, seen)
            readings, block = readings + seen.readings, block + 1
            if self.interrupts.asked or seen.outcome.status is not Status.OK:
                break
            bare = bare or self._bare()
            spent_s += seen.outcome.took_s + bare.took_s
            if bare.status is Status.OK and not self.interrupts.asked:
                pairs.append((seen.outcome.took_s, bare.took_s))
        return pairs

    def wants_counts(self) -> bool:
        """Whether calls are counted; says why not, where it is not plain."""
        if self.asked.counts is not None:
            return self.asked.counts
        if self.asked.by_hand or not self.python or not self.ended_well:
            return False
        if self.took_s * SLOWER > _COUNTS_UP_TO_S:
            self.observer.remark(
                f"Calls were not counted: that makes a trial up to ten times longer, here "
                f"{duration_text(self.took_s * SLOWER, 2)} twice; --counts counts them all the same."
            )
            return False
        return True

    @property
    def counting_s(self) -> float:
        """How long counting may take."""
        return self.took_s * SLOWER * COUNTED_TRIALS

    def count(self, writer: RecordWriter) -> None:
        """Run trials whose calls are counted, twice: what does not repeat is no evidence."""
        if self.took_s > 0.5:
            self.observer.doing(f"counting calls, {self._about(self.counting_s, most=True)}")
        runs = CountedRuns(self.launcher)
        for block in range(COUNTED_TRIALS):
            outcome = self.trials.run(self.workload, self.arm, self._conditions(0), by=runs)
            if self.interrupts.asked:
                raise KeyboardInterrupt
            self._record(writer, block, runs.told(outcome, block))
            if outcome.status is not Status.OK or not (runs.counts and runs.counts.processes):
                what = outcome.status.text if outcome.status is not Status.OK else "no Python that took the hook in"
                said = f"Calls could not be counted: the counting trial ended with {what}. {outcome.excerpt}"
                self.observer.remark(said.strip())
                return

    @property
    def _name(self) -> str:
        name, arm = self.study.workloads[self.workload].name, self.study.arms[self.arm].name
        return name if len(self.study.arms) == 1 else f"{name} under {arm}"

    def _about(self, seconds: float, most: bool = False) -> str:
        return f"{'at most' if most else 'about'} {duration_text(seconds, 2)}"

    def _enough(self, seen: _Seen) -> bool:
        """Whether one trial is a view by itself."""
        if seen.outcome.status is not Status.OK or self.interrupts.asked or self.asked.by_hand:
            return True
        if self.asked.trials is not None:
            return self.asked.trials == 1
        return seen.readings >= ENOUGH_READINGS

    def _more(self, readings: int, pairs: int, spent_s: float) -> bool:
        if self.interrupts.asked or pairs >= (self.asked.trials or _MOST_PAIRS):
            return False
        if self.asked.trials is not None:
            return True
        return pairs < _FEWEST_PAIRS or (readings < ENOUGH_READINGS and spent_s < _PAIRS_S)

    def _conditions(self, block: int) -> Mapping[str, int]:
        key = workload_key(self.study.workloads[self.workload])
        return block_conditions(self.seed, key, block, self.study.vary)

    def _watched(self, tick_ns: int, block: int) -> _Seen:
        runs = WatchedRuns(self.launcher, self.way.way, tick_ns, self.seed + block)
        outcome = self.trials.run(self.workload, self.arm, self._conditions(block), by=runs)
        return _Seen(runs, outcome, int(runs.watched.at_ns.size) if runs.watched else 0)

    def _bare(self) -> TrialOutcome:
        return self.trials.run(self.workload, self.arm, self._conditions(0))

    def _write(self, writer: RecordWriter, block: int, seen: _Seen) -> None:
        self._record(writer, block, seen.runs.told(seen.outcome, block))

    def _record(self, writer: RecordWriter, block: int, outcome: TrialOutcome) -> None:
        planned = PlannedTrial(PlannedBlock(self.workload, block, (self.arm,)), self.arm, 0)
        limit_s = self.study.workloads[self.workload].limit_s
        writer.trial(planned, outcome, limit_s, self._conditions(block))
