"""From the first trial to the last: workloads are tried, the record is begun, blocks run, and the run ends tidily."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, suppress
from dataclasses import dataclass, field, replace
from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING

from bystander.design import (
    ArmState,
    BlockRun,
    MachineFacts,
    MachineState,
    PlannedBlock,
    PlannedTrial,
    Record,
    Run,
    State,
    Study,
    TrialOutcome,
    plan_rounds,
    workload_key,
)
from bystander.errors import BystanderError, LauncherError, NoSpaceError
from bystander.field import (
    ArmMaker,
    LaunchedRuns,
    Launcher,
    MachineLock,
    Runs,
    machine_facts,
    machine_state,
    require_space,
)
from bystander.flow.observer import Observer
from bystander.flow.sessions.budget import within_budget
from bystander.flow.sessions.earlier_noise import noise_to_tell
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.sessions.lookout import Lookout
from bystander.flow.sessions.pauses import Pauses, Spread
from bystander.flow.sessions.rehearsal import keep_answers_apart, rehearse
from bystander.flow.sessions.watch import MachineWatch
from bystander.flow.trials.answers import Answers
from bystander.flow.trials.arm_files import ArmFiles
from bystander.flow.trials.blocks import BlockSetting, Clocks, StopAskedError, run_block
from bystander.flow.trials.calibration import calibrated
from bystander.flow.trials.own_files import OwnFiles
from bystander.flow.trials.ready import run_before_all
from bystander.flow.trials.starts import Starts
from bystander.flow.trials.trial import Commands, TrialRunner
from bystander.foresight import (
    AnswerDifference,
    Pace,
    Tried,
    difference_sentence,
    refuse_first_try,
    unprinted_sentences,
    unwatched,
    work_sentences,
)
from bystander.units import duration_text

if TYPE_CHECKING:
    from bystander.archive.writer import RecordWriter

__all__ = ["BegunRecord", "Foresee", "Observed", "Session", "World", "run_session"]

_BLOCK_BYTES = 128 * 2**10  # of the archive's disk that must be free: what a block writes, with its journal
_ATTEMPTS = 3  # of one block in one session, before it is taken as it is


def _nothing() -> None:
    pass


@dataclass(frozen=True)
class World:
    """What an observation takes from the world, so that tests can give it another one.

    Attributes
    ----------
    launch : callable
        Takes the descriptors of the machine lock and of interrupts; returns what runs trials, as a context.
    wall : callable
        Seconds since 1970.
    """

    launch: Callable[[int, int], AbstractContextManager[LaunchedRuns]] = Launcher
    clocks: Clocks = field(default_factory=Clocks)
    machine: Callable[[], MachineFacts] = machine_facts
    machine_state: Callable[[], MachineState] = machine_state
    wall: Callable[[], float] = time.time


@dataclass(frozen=True)
class Observed:
    """The record that an observation left.

    Attributes
    ----------
    record : str
        Its name; "" when it was interrupted before the first block.
    complete : bool
    """

    record: str
    complete: bool


@dataclass(frozen=True)
class BegunRecord:
    """A record that was begun or taken up, and how its trials are read back.

    Attributes
    ----------
    machine : int
        Where its trials run from now on: a position among the record's machines.
    done : set of (int, int)
        Workloads and numbers of blocks that are whole already.
    still_there : callable
        Raises ArchiveError where somebody removed the archive meanwhile.
    """

    name: str
    run: Run
    writer: RecordWriter
    load: Callable[[], Record]
    machine: int = 0
    done: frozenset[tuple[int, int]] = frozenset()
    still_there: Callable[[], None] = _nothing


Foresee = Callable[[Study, TrialRunner, tuple[Tried, ...], Observer], None]


@dataclass(frozen=True)
class Session:
    """What stays the same from the first trial to the last.

    Attributes
    ----------
    archive : Path
        Where the record is.
    answers : Path
        Where the first answer of each kind is kept.
    begin : callable
        Begins the record of the study as it is planned in the end, or takes it up.
    budget_s : float or None
        Set the number of blocks once, before the first one, to what fits in this time.
    spread : Spread or None
        Over how many sessions its rounds are spread.
    foresee : callable or None
        Is given the study, what runs trials, those tried, and the observer, before the first block; it may refuse.
    """

    study: Study
    arms: tuple[ArmState, ...]
    maker: ArmMaker
    files: ArmFiles
    archive: Path
    answers: Path
    commands: Commands
    observer: Observer
    world: World
    begin: Callable[[Study], BegunRecord]
    budget_s: float | None = None
    spread: Spread | None = None
    foresee: Foresee | None = None


def run_session(session: Session, lock: MachineLock) -> Observed:
    """Rehearse, begin, run what is not done yet, and say how the record ended."""
    entered = session.world.clocks.monotonic()
    with Interrupts() as interrupts, session.world.launch(lock.fd, interrupts.fd) as launcher:
        interrupts.at_once = launcher.kill_at_once
        try:
            session, trials, tried, apart = _rehearsed(session, launcher, entered)
        except KeyboardInterrupt:
            return Observed("", complete=False)
        begun = session.begin(session.study)
        if not begun.done:
            keep_answers_apart(begun.writer, begun.run, session.study, apart)
        pauses = Pauses(session.spread, lock, interrupts, session.observer, session.world.clocks.monotonic)
        observation = _Observation(session, begun, trials, tried, interrupts, pauses)
        session.observer.begun(session.study, begun.name, observation.pace.left_s)
        try:
            observation.run()
            observation.tell_all_disturbances()
        except (StopAskedError, KeyboardInterrupt):
            observation.tell_all_disturbances()
            begun.writer.finish(State.INTERRUPTED, session.files.changes())
            return Observed(begun.name, complete=False)
        except LauncherError:
            begun.writer.finish(State.INTERRUPTED, ["The launcher went away; the observation ended there."])
            raise
        except NoSpaceError as error:
            with suppress(BystanderError):  # the archive may lie on the very disk; a record that runs is resumable too
                begun.writer.finish(State.INTERRUPTED, [f"{error}; the observation ended there."])
            raise NoSpaceError(str(error), begun.name) from None
        begun.still_there()
        changed = session.files.changes()
        for sentence in changed:
            session.observer.remark(sentence)
        begun.writer.finish(State.COMPLETE, changed)
        took_s = session.world.clocks.monotonic() - entered
        if session.budget_s is not None and took_s > session.budget_s:
            took, given = duration_text(took_s, 2), duration_text(session.budget_s, 2)
            session.observer.remark(f"It took {took}, and {given} were given: trials took longer than at first.")
    return Observed(begun.name, complete=True)


def _rehearsed(
    session: Session, launcher: Runs, entered: float
) -> tuple[Session, TrialRunner, tuple[Tried, ...], tuple[AnswerDifference, ...]]:
    """Return the session as it is planned in the end, what runs its trials, those tried, and answers apart."""
    observer = session.observer
    run_before_all(session.study, dict(enumerate(session.arms)), launcher)
    study, commands = calibrated(session.study, session.arms, session.commands, launcher)
    trials = TrialRunner(launcher, commands, Answers(study, session.answers), Starts(study))
    with OwnFiles(study, session.arms, session.maker) as watched:
        tried, differences = rehearse(study, trials, observer, watched)
    sentences = [*unwatched(watched.blind), *(difference_sentence(study, one) for one in differences)]
    for sentence in [*sentences, *unprinted_sentences(study, tried), *work_sentences(study, tried)]:
        observer.remark(sentence)
    if all(arm.in_place for arm in study.arms):  # typed, without a study
        refuse_first_try(study, tried)
    if session.foresee:
        session.foresee(study, trials, tried, observer)
    if session.budget_s is not None:
        left_s = session.budget_s - (session.world.clocks.monotonic() - entered)
        noises = noise_to_tell(study, session.archive, session.world.machine().host)
        study = within_budget(study, trials, tried, observer, left_s, noises, session.world.clocks)
    return replace(session, study=study, commands=commands), trials, tried, differences


class _Observation:
    """The blocks of a record, round after round, until every workload has left or the last block ran."""

    def __init__(
        self,
        session: Session,
        begun: BegunRecord,
        trials: TrialRunner,
        tried: tuple[Tried, ...],
        interrupts: Interrupts,
        pauses: Pauses,
    ) -> None:
        self.session, self.begun, self.trials, self.interrupts = session, begun, trials, interrupts
        self.pauses = pauses
        study = session.study
        keys = [workload_key(workload) for workload in study.workloads]
        self.setting = BlockSetting(
            study, begun.run, keys, begun.machine, session.world.clocks, lambda: interrupts.asked,
            lambda: interrupts.continued,
        )  # fmt: skip
        self.pace = Pace(study, tried, Counter(workload for workload, _ in begun.done))
        self.lookout = Lookout(study, begun.load, begun.writer, session.observer)
        self.disturbed: dict[tuple[int, str], list[int]] = {}
        self.disturbing: set[int] = set()

    def run(self) -> None:
        """Run what is not done yet; raise StopAskedError when the user asked to stop and something is left."""
        study, run = self.session.study, self.begun.run
        world = self.session.world
        watch = MachineWatch(world.machine_state, self.begun.writer, clock=world.clocks.monotonic)
        names = [arm.name for arm in study.arms]
        plan = plan_rounds(run.seed, self.setting.keys, names, study.planned_blocks, run.order)
        for at, blocks in groupby(plan, key=lambda block: block.round):
            planned = [block for block in blocks if block.workload in self.lookout.live]
            coming = [block for block in planned if (block.workload, block.number) not in self.begun.done]
            if coming:
                self.pauses.before_round(at, max(study.planned_blocks))
            for done, block in enumerate(coming):
                watch.next_block(at)
                self.session.observer.progressed(self.pace.add(self._whole_block(block)))
                if self.interrupts.asked and done + 1 < len(coming):
                    raise StopAskedError
            self.lookout.after_round({block.workload: block.number + 1 for block in planned})
            self.pace.live = self.lookout.live
            if not self.pace.live:
                break
            if self.interrupts.asked and at + 1 < max(study.planned_blocks):
                raise StopAskedError
        watch.close()

    def _whole_block(self, block: PlannedBlock) -> BlockRun:
        """Return a block that was one run; where something disturbed it, such as a sleep, it is run again."""
        writer, workload = self.begun.writer, self.session.study.workloads[block.workload]

        def ended(planned: PlannedTrial, outcome: TrialOutcome, conditions: Mapping[str, int]) -> None:
            writer.trial(planned, outcome, workload.limit_s, conditions)

        # A workload that disturbed a block each time will go on doing so: its later blocks are taken as they are.
        attempts = 1 if block.workload in self.disturbing else _ATTEMPTS
        for attempt in range(attempts):
            self.begun.still_there()
            require_space(self.session.archive.parent, _BLOCK_BYTES)
            ran = run_block(self.trials.run, block, self.setting, attempt, ended)
            if not ran.disturbed:
                break
            if last := attempt == attempts - 1:
                self.disturbing.add(block.workload)
            else:
                writer.void(block.workload, block.number)
            self._tell_disturbance(block, ran.disturbed, attempts if last else 0)
        return ran

    def _tell_disturbance(self, block: PlannedBlock, why: str, taken_after: int) -> None:
        """Say that a block is run again, or is taken as it was after so many times; of a kind the first block only."""
        blocks = self.disturbed.setdefault((block.workload, why), [])
        before = block.number in blocks
        if not before:
            blocks.append(block.number)
        if block.number != blocks[0]:
            return
        name = f"Block {block.number} of {self.session.study.workloads[block.workload].name}"
        if taken_after:
            times = "" if taken_after == 1 else f" {taken_after} times"
            self._remark(f"{name} was disturbed{times} and is taken as it was: {why}.")
        elif not before:
            self._remark(f"{name} was run again: {why}.")

    def tell_all_disturbances(self) -> None:
        """Say how many blocks were disturbed in one way, where the first one was not the only one."""
        for (workload, why), blocks in self.disturbed.items():
            if len(blocks) > 1:
                name = self.session.study.workloads[workload].name
                self._remark(f"In all, {len(blocks)} blocks of {name} were disturbed so: {why}.")

    def _remark(self, sentence: str) -> None:
        self.begun.writer.remark(sentence)
        self.session.observer.remark(sentence)
