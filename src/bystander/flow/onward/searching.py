"""A search that runs: commits are built when they are asked for, and every block is kept before the next begins."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import (
    SEARCH,
    ArmState,
    KeptState,
    PlannedBlock,
    PlannedTrial,
    RecordHead,
    Run,
    State,
    Status,
    Study,
    TrialOutcome,
    block_order,
    workload_key,
)
from bystander.errors import ArmError, BystanderError, NoSpaceError, StudyError
from bystander.field import (
    ArmMaker,
    KeptOfRecord,
    KeptStates,
    LaunchedRuns,
    ReadyWorkload,
    StudyFolder,
    require_space,
)
from bystander.flow.chains.bisected import (
    Provide,
    Rows,
    Search,
    answer_of,
    answered,
    compared_value,
    place_of,
)
from bystander.flow.observer import Observer
from bystander.flow.sessions.heads import begun_head
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.sessions.session import World
from bystander.flow.trials.answers import Answers
from bystander.flow.trials.blocks import BlockSetting, StopAskedError, run_block
from bystander.flow.trials.ready import ready_commands, run_before_all
from bystander.flow.trials.starts import Starts
from bystander.flow.trials.trial import TrialRunner
from bystander.units import counted
from bystander.verdicts import Answer, Ask, Outcome, Stage

__all__ = ["Work"]

_ATTEMPTS = 3
_BLOCK_BYTES = 128 * 2**10


@dataclass
class Work:
    """A search that runs: what is kept, what is built, and what runs trials."""

    kept: Archive
    head: RecordHead
    search: Search
    maker: ArmMaker
    launcher: LaunchedRuns
    interrupts: Interrupts
    observer: Observer
    world: World
    archive: Path
    home: StudyFolder
    writers: dict[int, RecordWriter]
    commands: dict[tuple[int, int], ReadyWorkload]
    made: dict[str, int] = field(default_factory=dict)
    rows: dict[tuple[int, str, int], Rows] = field(default_factory=dict)
    blocks: int = 0

    @cached_property
    def trials(self) -> TrialRunner:
        """What runs trials; commands of commits that are built later are added to those that it has."""
        study = self.head.study
        return TrialRunner(self.launcher, self.commands, Answers(study, self.home.own / "answers"), Starts(study))

    def run(self) -> None:
        """Search in every workload; end the record tidily."""
        rules = self.search.rules(self.head)
        timed = self.writers[self.head.timed_run.number]
        self.blocks = sum(len(rows) for rows in self.rows.values())
        try:
            for w in range(len(self.head.study.workloads)):
                found = answered(len(self.search.commits) - 1, rules, self._provider(w))
                if found.outcome is Outcome.UNFINISHED:
                    raise StopAskedError
        except (StopAskedError, KeyboardInterrupt):
            self._end(State.INTERRUPTED)
            return
        except NoSpaceError as error:
            with suppress(BystanderError):  # the archive may lie on the very disk; a record that runs is resumable too
                self._end(State.INTERRUPTED)
            raise NoSpaceError(str(error), self.head.name) from None
        except BystanderError:
            self._end(State.INTERRUPTED)
            raise
        self._end(State.COMPLETE)
        timed.finish(State.COMPLETE)

    def _end(self, state: State) -> None:
        timed = self.head.timed_run.number
        for number, writer in self.writers.items():
            if number != timed:
                writer.finish(state)
        if state is not State.COMPLETE:
            self.writers[timed].finish(state)

    def _provider(self, workload: int) -> Provide:
        def provide(ask: Ask) -> Answer | None:
            for commit in ask.commits:
                if not self._built(commit):
                    return Answer(broken=commit)
            rows = self.rows.setdefault((workload, ask.stage, ask.part), {})
            names, told = [self.search.commits[commit].short for commit in ask.commits], False
            for number in range(ask.first, ask.first + ask.blocks):
                if not all(name in rows.get(number, {}) for name in names):
                    if not told:
                        self._tell(workload, ask)
                    told = True
                    rows[number] = self._block(workload, ask, number, names)
            return answer_of(rows, ask, self.search.commits)

        return provide

    def _tell(self, workload: int, ask: Ask) -> None:
        of = "" if len(self.head.study.workloads) == 1 else f"{self.head.study.workloads[workload].name}: "
        doing = {
            Stage.ENDS: "both ends first", Stage.VERIFIED: "one is held against its parent in fresh blocks",
            Stage.REMAINDER: "is there a second step?",
        }.get(ask.stage, "")  # fmt: skip
        tail = f"; {doing}" if doing else ""
        question = f"{of}{counted(ask.in_question, 'commit')} in question"
        self.observer.doing(f"{question}, {counted(len(self.made), 'commit')} built, {self.blocks} blocks{tail}")

    def _built(self, commit: int) -> bool:
        """Build a commit where that was not tried yet; return whether it can be tried."""
        one = self.search.commits[commit]
        if one.short in self.made:
            return True
        if one.short in self.search.broken:
            return False
        arm = replace(self.head.study.arms[0], name=one.short, revision=one.short)
        self.observer.making(one.short)
        study = replace(self.head.study, arms=(*self.head.study.arms, arm))
        try:
            state = self.maker.make(study, arm)
            commands = ready_commands(replace(study, arms=(arm,)), (state,))
            run_before_all(replace(study, arms=(arm,)), {0: state}, self.launcher)
        except (ArmError, StudyError) as error:
            why = (str(error).splitlines() or [""])[0].rstrip(":")
            why = why.partition(": ")[2] if why.startswith("arm ") else why
            self.search = replace(self.search, broken={**self.search.broken, one.short: why})
            options = {**self.head.timed_run.options, **self.search.options}
            self.kept.set_options(self.head, self.head.timed_run.number, options)
            self.observer.remark(f"{one.short} cannot be built, and counts with the next: {why}.")
            return False
        place = len(self.head.study.arms)
        self.commands |= {(w, place): ready for (w, _), ready in commands.items()}
        self._add(study, state)
        self.made[one.short] = place
        return True

    def _add(self, study: Study, state: ArmState) -> None:
        if (git := self.home.git) and state.facts.tree:  # its files are known, so that its edit can be taken apart
            states = KeptStates(self.home)
            inside = str(self.home.path.relative_to(git.top.resolve())).removeprefix(".")
            kept = states.of(self.head.uuid) or KeptOfRecord()
            mine = {**kept.arms, state.name: KeptState("tree", state.facts.tree, inside)}
            states.write(self.head.uuid, replace(kept, arms=mine))
        sealed = begun_head(study, self.home, (state,), self.world.machine(), 0.0).arms[0]
        self.kept.add_arm(self.head, study, sealed)
        self.head = replace(self.head, study=study, arms=(*self.head.arms, sealed))

    def _block(self, workload: int, ask: Ask, number: int, names: Sequence[str]) -> dict[str, tuple[float, bool]]:
        """Run one block, and return its readings as they are compared."""
        if self.interrupts.asked:
            raise StopAskedError
        run, writer = self._run_of(workload, ask)
        study = self.head.study
        key = workload_key(study.workloads[workload])
        arms = [self.made[name] for name in names]
        order = tuple(arms[k] for k in block_order(run.seed, key, number, names))
        planned = PlannedBlock(workload, number, order)
        keys = [workload_key(one) for one in study.workloads]
        setting = BlockSetting(
            study, run, keys, clocks=self.world.clocks, stopped=lambda: self.interrupts.asked,
            continued=lambda: self.interrupts.continued,
        )  # fmt: skip
        limit_s = study.workloads[workload].limit_s

        def ended(place: PlannedTrial, outcome: TrialOutcome, conditions: Mapping[str, int]) -> None:
            writer.trial(place, outcome, limit_s, conditions)

        for attempt in range(_ATTEMPTS):
            self.kept.still_there()
            require_space(self.archive.parent, _BLOCK_BYTES)
            ran = run_block(self.trials.run, planned, setting, attempt, ended)
            if not ran.disturbed or attempt == _ATTEMPTS - 1:
                break
            writer.void(workload, number)
        self.blocks += 1
        outcomes = {name: ran.outcomes[arm] for name, arm in zip(names, arms, strict=True)}
        return {
            name: (compared_value(study, one), one.status is not Status.OK) for name, one in outcomes.items()
        }  # fmt: skip

    def _run_of(self, workload: int, ask: Ask) -> tuple[Run, RecordWriter]:
        """Return the run of a part of the search, begun where it is not there yet, and its writer."""
        timed = self.head.timed_run
        if ask.stage is Stage.ENDS and ask.part == 0:
            return timed, self.writers[timed.number]
        for run in self.head.runs:
            if run.purpose == ask.stage and place_of(run) == (workload, ask.part):
                if run.number not in self.writers:
                    head = self.kept.head(self.head.uuid)
                    self.writers[run.number] = self.kept.resume(head, self.world.machine(), run.number)
                return run, self.writers[run.number]
        number = 1 + max(run.number for run in self.head.runs)
        options = {SEARCH: {"workload": workload, "part": ask.part}}
        run = Run(number, str(ask.stage), timed.seed, options=options, began_wall_s=time.time())
        self.writers[number] = self.kept.begin_run(self.kept.head(self.head.uuid), run, self.world.machine())
        self.head = replace(self.head, runs=(*self.head.runs, run))
        return run, self.writers[number]
