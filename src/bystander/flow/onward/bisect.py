"""`bystander bisect`: commits are built as they are asked for and tried against the good end, block by block."""

from __future__ import annotations

import secrets
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import (
    DEFAULT_BLOCKS,
    ArmState,
    Comparison,
    EditSize,
    KeptState,
    PlannedBlock,
    PlannedTrial,
    RecordHead,
    Run,
    State,
    Status,
    StoppingRule,
    Study,
    TrialOutcome,
    block_order,
    edit_size,
    is_range,
    range_ends,
    read_patch,
    with_only,
    workload_key,
)
from bystander.errors import ArmError, BystanderError, StudyError, UsageError
from bystander.exchange import bisect_json
from bystander.field import (
    ArmMaker,
    Edits,
    KeptOfRecord,
    KeptStates,
    LaunchedRuns,
    MachineLock,
    ReadyWorkload,
    StudyFolder,
    require_space,
)
from bystander.flow.chains.bisected import (
    BISECT,
    Provide,
    Rows,
    Search,
    answer_of,
    answered,
    bisection,
    compared_value,
    is_bisection,
    kept_search,
    place_of,
    search_of,
)
from bystander.flow.observer import Observer
from bystander.flow.onward.chain import template_arm
from bystander.flow.sessions.early_ends import noting
from bystander.flow.sessions.heads import begun_head, home_of, refuse_foreign
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.sessions.keeping import Keeper, Keeping
from bystander.flow.sessions.rehearsal import rehearse
from bystander.flow.sessions.session import World
from bystander.flow.trials.answers import Answers
from bystander.flow.trials.blocks import BlockSetting, StopAskedError, run_block
from bystander.flow.trials.calibration import calibrated
from bystander.flow.trials.own_files import OwnFiles
from bystander.flow.trials.ready import make_arms, ready_commands, run_before_all
from bystander.flow.trials.starts import Starts
from bystander.flow.trials.trial import TrialRunner
from bystander.units import counted
from bystander.verdicts import Answer, Ask, Commit, Outcome, Searched, Stage

__all__ = ["AskedBisect", "bisect", "bisect_document", "resume_bisection", "searched"]

_ATTEMPTS = 3
_BLOCK_BYTES = 128 * 2**10
_MOST_COMMITS = 20_000


@dataclass(frozen=True)
class AskedBisect:
    """What is asked of a search.

    Attributes
    ----------
    only : sequence of str
        Workloads.
    measure : str or None
        On which the ends differ; the study's by default.
    arm : str or None
        The arm of the study like which commits are made.
    blocks, seed : int or None
    every : bool
        All commits of the range, rather than first parents only.
    second : bool
        Whether a second step is searched for.
    """

    only: Sequence[str] = ()
    measure: str | None = None
    arm: str | None = None
    blocks: int | None = None
    seed: int | None = None
    every: bool = False
    second: bool = True


def _line(what: str, home: StudyFolder, every: bool) -> tuple[Commit, ...]:
    """Return the commits of a range, the good end first."""
    git = home.git
    if git is None:
        raise UsageError(f"{home.path} lies in no git repository, so there are no commits to search")
    try:
        ends = range_ends(what)
    except ValueError as error:
        raise UsageError(str(error)) from None
    for end in ends:
        if problem := home.revision_problem(end):
            raise UsageError(problem)
    first, last = map(git.commit, ends)
    if not git.is_ancestor(first, last):
        apart = f"git merge-base {ends[0]} {ends[1]} names where they part"
        raise UsageError(f"{ends[0]} is no ancestor of {ends[1]}; {apart}")
    commits = tuple(Commit(*one) for one in git.commits(first, last, every))
    if len(commits) < 2:
        raise UsageError(f"{what} is one commit, and there is nothing to search")
    if len(commits) > _MOST_COMMITS:
        raise UsageError(f"{what} are {len(commits)} commits, more than {_MOST_COMMITS}; name a nearer end")
    return commits


def _study(study: Study, asked: AskedBisect, commits: Sequence[Commit]) -> Study:
    """Return the study of both ends: the good one is the reference."""
    arm = replace(template_arm(study, asked.arm), folder=".", kept=None, in_place=False)
    study = with_only(study, asked.only)
    blocks = asked.blocks or max(study.blocks, DEFAULT_BLOCKS)
    return replace(
        study,
        arms=tuple(replace(arm, name=one.short, revision=one.short) for one in (commits[0], commits[-1])),
        compared=(Comparison(0, 1),),
        states=None,
        chain=None,
        blocks=blocks,
        workloads=tuple(replace(one, blocks=None) for one in study.workloads),
        stopping=StoppingRule.LOOKS,
        measure=asked.measure or study.measure,
        seed=secrets.randbits(48) if asked.seed is None else asked.seed,
    )


def bisect(
    study: Study,
    home: StudyFolder,
    archive: Path,
    caller: Mapping[str, str],
    observer: Observer,
    what: str,
    asked: AskedBisect,
    wait: bool = False,
    world: World | None = None,
) -> str:
    """Search for the commit of a range that made the difference; return the record's name, "" where none was begun.

    Raises
    ------
    UsageError
        When the range has no two commits.
    ArmError
        When an end cannot be built.
    """
    world = world or World()
    if not is_range(what):
        raise UsageError(f'"{what}" is no range of revisions; write for example "v1..v9"')
    search = Search(what, _line(what, home, asked.every), second=asked.second)
    study = _study(study, asked, search.commits)
    names: list[str] = []
    with (
        noting(archive, study.name, names),
        MachineLock(f"search in {study.name}", waiting=observer.remark if wait else None) as lock,
    ):
        home.keep_beside(archive)
        maker = ArmMaker(home, caller, archive)
        keeper = Keeper(study, home, maker, Keeping())
        keeper.before_making(observer)
        arms, commands = make_arms(study, maker, observer)
        with (
            Archive(archive, create=True) as kept,
            Interrupts() as interrupts,
            world.launch(lock.fd, interrupts.fd) as launcher,
        ):
            interrupts.at_once = launcher.kill_at_once
            try:
                run_before_all(study, dict(enumerate(arms)), launcher)
                study, commands = calibrated(study, arms, commands, launcher)
                trials = TrialRunner(launcher, commands, Answers(study, home.own / "answers"), Starts(study))
                with OwnFiles(study, arms, maker) as watched:
                    rehearse(study, trials, observer, watched)
            except KeyboardInterrupt:
                return ""
            head = begun_head(study, home, arms, world.machine(), world.wall(), options=search.options)
            writer, name = kept.begin(head)
            names.append(name)
            head = kept.head(name)
            keeper.write(head.uuid, arms, observer)
            question = f"{counted(len(search.commits) - 1, 'commit')} in question"
            observer.remark(f"record {name}: {question}; Ctrl-C ends it tidily")
            work = _Work(kept, head, search, maker, launcher, interrupts, observer, world, archive, home,
                         {head.timed_run.number: writer}, dict(commands))  # fmt: skip
            work.made = {state.name: a for a, state in enumerate(arms)}
            work.run()
        return name


def resume_bisection(
    archive: Path, name: str | None, caller: Mapping[str, str], observer: Observer, wait: bool = False,
    world: World | None = None,
) -> str:  # fmt: skip
    """Take up a search that was interrupted or killed; what is whole is not run again. Return the record's name."""
    world = world or World()
    with Archive(archive) as kept:
        head = kept.head(name) if name else _newest(kept.heads(), archive)
        with MachineLock(f"search in {head.study.name}", waiting=observer.remark if wait else None) as lock:
            head = kept.head(head.uuid)
            refuse_foreign(head, "search its range anew, after reading its study")
            search = search_of(head)
            if head.complete:
                raise UsageError(f"record {head.name} is complete; there is nothing to resume")
            home = home_of(head)
            home.keep_beside(archive)
            maker = ArmMaker(home, caller, archive)
            arms = []
            for arm, state in zip(head.study.arms, head.arms, strict=True):
                observer.making(arm.name)
                arms.append(maker.again(head.study, arm, state))
            commands = ready_commands(head.study, tuple(arms))
            with Interrupts() as interrupts, world.launch(lock.fd, interrupts.fd) as launcher:
                interrupts.at_once = launcher.kill_at_once
                run_before_all(head.study, dict(enumerate(arms)), launcher)
                _, commands = calibrated(head.study, tuple(arms), commands, launcher)
                writer = kept.resume(head, world.machine())
                work = _Work(kept, head, search, maker, launcher, interrupts, observer, world, archive, home,
                             {head.timed_run.number: writer}, dict(commands))  # fmt: skip
                work.made = {state.name: a for a, state in enumerate(arms)}
                work.rows = {key: dict(rows) for key, rows in kept_search(kept, head).blocks.items()}
                work.run()
    return head.name


def _newest(heads: Sequence[RecordHead], archive: Path, open_only: bool = True) -> RecordHead:
    for head in reversed(heads):
        if is_bisection(head) and not (open_only and head.complete):
            return head
    what = "unfinished search" if open_only else "search"
    raise UsageError(f"{archive} has no {what} for a commit; bystander bisect v1..v9 begins one")


def searched(archive: Path, name: str | None = None) -> Searched:
    """Return what a search found, the newest by default, worked out from its blocks. Nothing is run."""
    with Archive(archive) as kept:
        head = kept.head(name) if name else _newest(kept.heads(), archive, open_only=False)
        found = bisection(kept, head)
    return replace(found, sizes=_sizes(found))


def _sizes(done: Searched) -> dict[str, EditSize]:
    """Return how large the edits that were found are, as far as the repository is still here."""
    sizes: dict[str, EditSize] = {}
    with suppress(BystanderError):
        home = home_of(done.head)
        kept = KeptStates(home).of(done.head.uuid) if done.head.observed_here else None
        for _, found in done.found:
            for step in found.steps:
                names = [done.commits[commit].short for commit in (step.parent, step.commits[-1])]
                states = [kept.arms.get(name) if kept else None for name in names]
                if isinstance(states[0], KeptState) and isinstance(states[1], KeptState):
                    sizes[names[1]] = edit_size(read_patch(Edits(home).patch(states[0], states[1])))
    return sizes


def bisect_document(done: Searched) -> str:
    """Return what was found as the JSON document whose schema is in docs/bisect.schema.json."""
    return bisect_json(done)


@dataclass
class _Work:
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
            self.writers[self.head.timed_run.number].options(options)
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
        self.writers[self.head.timed_run.number].add_arm(study, sealed)
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
        options = {BISECT: {"workload": workload, "part": ask.part}}
        run = Run(number, str(ask.stage), timed.seed, options=options, began_wall_s=time.time())
        self.writers[number] = self.kept.begin_run(self.kept.head(self.head.uuid), run, self.world.machine())
        self.head = replace(self.head, runs=(*self.head.runs, run))
        return run, self.writers[number]
