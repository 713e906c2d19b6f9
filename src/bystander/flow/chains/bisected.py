"""What a record keeps of a search for a commit, read back: the same questions are answered from its blocks."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bystander.archive import Archive
from bystander.design import MEASURES, SEARCH, TIMED, RecordHead, Run, Status, Study, TrialColumns, TrialOutcome
from bystander.errors import UsageError
from bystander.verdicts import Answer, Ask, Bisected, Commit, Outcome, Rules, Searched, Stage, bisecting

__all__ = [
    "Kept",
    "Provide",
    "Rows",
    "Search",
    "answer_of",
    "answered",
    "bisection",
    "compared_value",
    "found_pairs",
    "kept_search",
    "place_of",
    "search_of",
]

Floats = NDArray[np.float64]
_RAW = ("", "1", "share")  # units of which differences are told, not ratios
Rows = dict[int, dict[str, tuple[float, bool]]]


@dataclass(frozen=True)
class Search:
    """What is searched, as the record keeps it.

    Attributes
    ----------
    what : str
        What was asked for: "v1..v9".
    commits : tuple of Commit
        The good end first.
    broken : mapping
        By short id: why a commit cannot be built.
    second : bool
        Whether a second step is searched for.
    """

    what: str
    commits: tuple[Commit, ...]
    broken: Mapping[str, str] = field(default_factory=dict)
    second: bool = True

    @property
    def options(self) -> dict[str, Any]:
        """As the timed run keeps it."""
        commits = [[one.id, one.short, one.subject] for one in self.commits]
        kept = {"what": self.what, "commits": commits, "broken": dict(self.broken), "second": self.second}
        return {SEARCH: kept}

    def rules(self, head: RecordHead) -> Rules:
        """Return what is fixed before each of its searches."""
        return Rules(head.study.risk, head.study.blocks, second=self.second)


@dataclass(frozen=True)
class Kept:
    """All blocks of a search: by workload, stage and part, and within it by the number of the block."""

    search: Search
    blocks: Mapping[tuple[int, str, int], Rows]


def search_of(head: RecordHead) -> Search:
    """Return what a record searches; raise UsageError where it is no such record, or what it keeps makes no sense."""
    told: Any = head.timed_run.options.get(SEARCH) or {}
    try:
        commits = tuple(Commit(*map(str, one)) for one in told["commits"])
        broken = {str(name): str(why) for name, why in told["broken"].items()}
        found = Search(str(told["what"]), commits, broken, bool(told["second"]))
        ends = [arm.name for arm in head.study.arms[:2]]
        if len(commits) < 2 or ends != [commits[0].short, commits[-1].short]:
            raise ValueError
    except (TypeError, KeyError, ValueError, AttributeError):
        raise UsageError(f"record {head.name} is no search for a commit; bystander decide shows it") from None
    return found


def rows_of(head: RecordHead, trials: TrialColumns) -> Rows:
    """Return by block and name of the arm the reading of each trial as it is compared, and whether it failed."""
    names = [arm.name for arm in head.study.arms]
    values = _values(head, trials)
    found: Rows = {}
    for i in range(len(trials)):
        found.setdefault(int(trials.block[i]), {})[names[int(trials.arm[i])]] = values[i], bool(trials.failed[i])
    return found


def _values(head: RecordHead, trials: TrialColumns) -> list[float]:
    """Return readings as they are compared: logarithms where ratios are told; NaN where a trial failed or read none."""
    measure = next((i for i, measure in enumerate(head.measures) if measure.name == head.study.measure), None)
    if measure is None or measure >= trials.readings.shape[1]:
        return [float("nan")] * len(trials)
    values = np.where(trials.failed, np.nan, trials.readings[:, measure])
    if head.measures[measure].unit not in _RAW:
        values = np.log(np.where(values > 0, values, np.nan))
    found: list[float] = values.tolist()
    return found


def compared_value(study: Study, outcome: TrialOutcome) -> float:
    """Return what a trial that just ended read, as it is compared: as `rows_of` does of one that is kept."""
    measure = outcome.measures.get(study.measure) or MEASURES.get(study.measure)
    value = outcome.readings.get(study.measure, math.nan)
    if outcome.status is not Status.OK or measure is None:
        return math.nan
    return value if measure.unit in _RAW else math.log(value) if value > 0 else math.nan


def kept_search(kept: Archive, head: RecordHead) -> Kept:
    """Return all whole blocks of a search."""
    search = search_of(head)
    found: dict[tuple[int, str, int], Rows] = {}
    for run in head.runs:
        if run.purpose == TIMED:
            trials: TrialColumns = kept.load(head.uuid).trials
            for w in range(len(head.study.workloads)):
                found[w, Stage.ENDS, 0] = rows_of(head, _only(trials, w))
        elif (place := place_of(run)) is not None:
            trials = kept.load_run(head.uuid, run.number).trials
            found[place[0], run.purpose, place[1]] = rows_of(head, _only(trials, place[0]))
    return Kept(search, found)


def place_of(run: Run) -> tuple[int, int] | None:
    """Return workload and part of a run of a search; None for any other run."""
    told = run.options.get(SEARCH)
    if not isinstance(told, dict) or run.purpose not in list(Stage):
        return None
    workload, part = told.get("workload"), told.get("part")
    return (workload, part) if type(workload) is int and type(part) is int else None


def _only(trials: TrialColumns, workload: int) -> TrialColumns:
    mine = trials.workload == workload
    return TrialColumns(**{name: getattr(trials, name)[mine] for name in TrialColumns.__dataclass_fields__})


Provide = Callable[[Ask], Answer | None]


def answered(count: int, rules: Rules, provide: Provide) -> Bisected:
    """Hold the whole conversation; where there is no answer any more, return how far it came."""
    talk, asked, built, broken = bisecting(count, rules), 0, {0, count}, set[int]()
    try:
        ask = next(talk)
        while (answer := provide(ask)) is not None:
            if answer.broken is not None:
                broken.add(answer.broken)
            else:
                built |= set(ask.commits)
                asked += ask.blocks
            ask = talk.send(answer)
    except StopIteration as ended:
        found: Bisected = ended.value
        return found
    return Bisected(Outcome.UNFINISHED, blocks=asked, tried=tuple(sorted(built)), broken=tuple(sorted(broken)),
                    remaining=tuple(range(ask.in_question)))  # fmt: skip


def from_kept(kept: Kept, workload: int) -> Provide:
    """Return what answers from the blocks that are kept."""
    commits = kept.search.commits

    def provide(ask: Ask) -> Answer | None:
        for commit in ask.commits:
            if commits[commit].short in kept.search.broken:
                return Answer(broken=commit)
        return answer_of(kept.blocks.get((workload, ask.stage, ask.part), {}), ask, commits)

    return provide


def answer_of(rows: Rows, ask: Ask, commits: Sequence[Commit]) -> Answer | None:
    """Return what is asked for from the blocks of its run; None where one of them is missing."""
    names = [commits[commit].short for commit in ask.commits]
    wanted = [rows.get(number, {}) for number in range(ask.first, ask.first + ask.blocks)]
    if not all(name in row for row in wanted for name in names):
        return None
    values = np.array([[row[name][0] for name in names] for row in wanted])
    return Answer(values, np.array([[row[name][1] for name in names] for row in wanted], dtype=bool))


def bisection(kept: Archive, head: RecordHead) -> Searched:
    """Return what a record found, worked out from its blocks."""
    blocks = kept_search(kept, head)
    rules, count = blocks.search.rules(head), len(blocks.search.commits) - 1
    found = [(w, answered(count, rules, from_kept(blocks, w))) for w in range(len(head.study.workloads))]
    search = blocks.search
    return Searched(head, search.what, search.commits, search.broken, tuple(found))


def found_pairs(kept: Archive, head: RecordHead) -> list[tuple[int, int, int]]:
    """Return workload, parent and commit, as positions among its arms, of every step that a record found."""
    done, places = bisection(kept, head), {arm.name: place for place, arm in enumerate(head.study.arms)}
    commits = done.commits
    return [
        (w, places[commits[step.parent].short], places[commits[step.commits[-1]].short])
        for w, found in done.found
        for step in found.steps
    ]
