"""`bystander observe`: the trials of a study, each on disk before the next begins; and their resumption."""

from __future__ import annotations

import secrets
import time
import uuid
from collections import Counter
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass, replace
from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bystander import __version__
from bystander.archive import Archive
from bystander.design import (
    OBSERVED,
    ArmState,
    PlannedBlock,
    Record,
    RecordHead,
    Study,
    TrialOutcome,
    block_conditions,
    plan_rounds,
    workload_key,
)
from bystander.errors import ArmError, LauncherError, UsageError
from bystander.field import (
    ArmMaker,
    Launcher,
    MachineLock,
    StudyFolder,
    machine_facts,
    machine_state,
)
from bystander.flow.answers import Answers
from bystander.flow.budget import within_budget
from bystander.flow.calibration import calibrated
from bystander.flow.check import alike, shims, too_few
from bystander.flow.doubts import doubts
from bystander.flow.early_ends import noting
from bystander.flow.interrupts import Interrupts
from bystander.flow.lookout import Lookout
from bystander.flow.observer import Observer, Progress
from bystander.flow.own_files import OwnFiles
from bystander.flow.pace import Pace
from bystander.flow.rehearsal import difference_sentence, make_arms, ready_commands, rehearse
from bystander.flow.starts import Starts
from bystander.flow.steady import ArmFiles
from bystander.flow.tellings import work_sentences
from bystander.flow.trial import Commands, Runs, TrialRunner
from bystander.flow.watch import MachineWatch

if TYPE_CHECKING:
    from bystander.archive.writer import RecordWriter

__all__ = ["Observed", "Surroundings", "observe", "resume"]

_CLOCK_GAP_S = 1.0  # a block during which the clocks part by more was not one run
_ATTEMPTS = 3  # of one block in one session, before it is taken as it is


def _clock_offset() -> float:
    """Return wall time less monotonic time, in seconds; it jumps when the machine slept or a clock was set."""
    return time.time() - time.monotonic()


@dataclass(frozen=True)
class Surroundings:
    """What an observation takes from the world, so that tests can give it another one.

    Attributes
    ----------
    launch : callable
        Takes the descriptors of the machine lock and of interrupts; returns what runs trials, as a context.
    wall, monotonic : callable
        Clocks, in seconds: since 1970, and since any moment.
    """

    launch: Callable[[int, int], AbstractContextManager[Runs]] = Launcher
    clock_offset: Callable[[], float] = _clock_offset
    machine: Callable[[], dict[str, Any]] = machine_facts
    machine_state: Callable[[], dict[str, Any]] = machine_state
    wall: Callable[[], float] = time.time
    monotonic: Callable[[], float] = time.monotonic


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


class _StopAskedError(Exception):
    """The user asked to stop."""


@dataclass(frozen=True)
class _Session:
    """What stays the same from the first trial to the last."""

    study: Study
    arms: tuple[ArmState, ...]
    maker: ArmMaker
    files: ArmFiles
    answers: Path
    commands: Commands
    observer: Observer
    world: Surroundings


def observe(
    study: Study,
    place: StudyFolder,
    archive: Path,
    caller: Mapping[str, str],
    observer: Observer,
    *,
    budget_s: float | None = None,
    wait: bool = False,
    world: Surroundings | None = None,
) -> Observed:
    """Run all trials of a study into a new record.

    Parameters
    ----------
    budget_s : float, optional
        Set the number of blocks once, before the first one, to what fits in this time.
    wait : bool
        Wait until another observation on this machine has ended.

    Raises
    ------
    MachineBusyError, ArmError, ArchiveError, LauncherError, StudyError
    """
    world = world or Surroundings()
    study = replace(study, seed=secrets.randbits(48) if study.seed is None else study.seed)
    begun: list[str] = []
    with (
        noting(archive, study.name, begun),
        MachineLock(study.name, waiting=observer.remark if wait else None) as lock,
    ):
        for sentence in () if budget_s else too_few(study):
            observer.remark(sentence)
        place.keep_beside(archive)
        maker = ArmMaker(place, caller, archive)
        arms, commands = make_arms(study, maker, observer)
        for sentence in (*alike(study, arms), *shims(arms), *doubts(study, arms, commands)):
            observer.remark(sentence)
        files = ArmFiles(maker, study, arms)
        session = _Session(study, arms, maker, files, place.own / "answers", commands, observer, world)
        with Archive(archive, create=True) as kept:

            def begin(planned: Study) -> tuple[RecordWriter, str]:
                writer, name = kept.begin(_head(planned, place, arms, world))
                begun.append(name)
                return writer, name

            return _conducted(session, lock, kept, begin, set(), budget_s)


def _head(study: Study, place: StudyFolder, arms: tuple[ArmState, ...], world: Surroundings) -> RecordHead:
    return RecordHead(
        uuid=str(uuid.uuid4()),
        name="",
        origin="observed",
        state="running",
        started_wall_s=world.wall(),
        study=study,
        study_folder=str(place.path),
        study_file=place.file,
        arms=arms,
        workload_keys=(),
        measures=OBSERVED,
        machine=world.machine(),
        version=__version__,
    )


def resume(
    archive: Path,
    name: str | None,
    caller: Mapping[str, str],
    observer: Observer,
    *,
    elsewhere: bool = False,
    wait: bool = False,
    world: Surroundings | None = None,
) -> Observed:
    """Finish the plan of a record that was not finished; blocks that are whole are not run again.

    Arms are taken in the very state that they had; half blocks are void, and run again whole in the same
    order.

    Parameters
    ----------
    elsewhere : bool
        Go on although this is another boot or machine; each block then names the one it ran on.
    wait : bool
        Wait until another observation on this machine has ended.

    Raises
    ------
    UsageError
        When there is nothing to finish, or this is not the machine as it was and `elsewhere` is not given.
    ArmError
        When an arm is not what it was.
    """
    world = world or Surroundings()
    with Archive(archive) as kept:
        head = kept.head(name)
        _refuse_to_resume(head)
        with MachineLock(head.study.name, waiting=observer.remark if wait else None) as lock:
            # Only now: whoever held the lock may have been finishing this very record.
            record = kept.load(head.uuid)
            head = record.head
            _refuse_to_resume(head)
            moved = _moved(head.machine, world.machine())
            if moved and not elsewhere:
                raise UsageError(f"record {head.name}: {moved}; --elsewhere goes on all the same, and says so")
            place = StudyFolder(Path(head.study_folder))
            place.keep_beside(archive)
            maker = ArmMaker(place, caller, archive)
            arms = _arms_again(head.study, head.arms, maker)
            for arm in arms:
                observer.made(arm)
            files, commands = ArmFiles(maker, head.study, arms), ready_commands(head.study, arms)
            session = _Session(head.study, arms, maker, files, place.own / "answers", commands, observer, world)

            def begin(_planned: Study) -> tuple[RecordWriter, str]:
                writer = kept.resume(head, world.machine())
                if moved:
                    writer.remark(f"Resumed elsewhere: {moved}.")
                return writer, head.name

            return _conducted(session, lock, kept, begin, _whole_blocks(record))


def _refuse_to_resume(head: RecordHead) -> None:
    """Raise UsageError unless the record was begun here and is not finished: a record holds commands."""
    if head.provenance or head.origin != "observed":
        how = head.provenance or "imported"
        raise UsageError(
            f"record {head.name} was {how}, and what was {how} is never run; observe its study anew, after reading it"
        )
    if head.complete:
        raise UsageError(f"record {head.name} is complete; there is nothing to resume")


def _whole_blocks(record: Record) -> set[tuple[int, int]]:
    trials = record.trials
    return set(zip(trials.workload.tolist(), trials.block.tolist(), strict=True))


def _moved(then: Mapping[str, Any], now: Mapping[str, Any]) -> str:
    """Say how the machine is not the one it was, or ""."""
    for key, what in (("host", "machine"), ("processor", "processor"), ("cores", "number of cores")):
        if then.get(key) != now.get(key):
            return f"it ran on another {what} ({then.get(key)} then, {now.get(key)} now)"
    return "the machine was started again since" if then.get("boot_id") != now.get("boot_id") else ""


def _arms_again(study: Study, states: tuple[ArmState, ...], maker: ArmMaker) -> tuple[ArmState, ...]:
    if not maker.place.path.is_dir():
        raise ArmError(f"the study's folder {maker.place.path} is gone")
    return tuple(maker.again(study, arm, state) for arm, state in zip(study.arms, states, strict=True))


def _conducted(
    session: _Session,
    lock: MachineLock,
    kept: Archive,
    begin: Callable[[Study], tuple[RecordWriter, str]],
    done: set[tuple[int, int]],
    budget_s: float | None = None,
) -> Observed:
    """Rehearse, begin, run what is not done yet, and say how the record ended."""
    clock = session.world.monotonic
    observer, entered = session.observer, clock()
    with Interrupts() as interrupts, session.world.launch(lock.fd, interrupts.fd) as launcher:
        try:
            study, commands = calibrated(session.study, session.arms, session.commands, launcher)
            session = replace(session, study=study, commands=commands)
            trials = TrialRunner(launcher, commands, Answers(study, session.answers), Starts(study))
            with OwnFiles(session.study, session.arms, session.maker) as watched:
                tried, differences = rehearse(session.study, trials, observer, watched)
            if watched.blind:
                observer.remark(f"Whether each arm opens its own files only could not be watched: {watched.blind}.")
            for one in differences:
                observer.remark(difference_sentence(session.study, one))
            for sentence in work_sentences(session.study, tried):
                observer.remark(sentence)
            if budget_s is not None:
                study = within_budget(session.study, trials, tried, observer, budget_s - (clock() - entered))
                session = replace(session, study=study)
        except KeyboardInterrupt:
            return Observed("", complete=False)
        study = session.study
        writer, name = begin(study)
        pace = Pace(study, tried, Counter(workload for workload, _ in done))
        observer.begun(study, name, pace.left_s)
        lookout = Lookout(study, lambda: kept.load(name), writer, observer)
        try:
            _run(session, trials, writer, pace, lookout, interrupts, done)
        except (_StopAskedError, KeyboardInterrupt):
            writer.finish("interrupted", session.files.changes())
            return Observed(name, complete=False)
        except LauncherError:
            writer.finish("interrupted", ["The launcher went away; the observation ended there."])
            raise
        changed = session.files.changes()
        for sentence in changed:
            observer.remark(sentence)
        writer.finish("complete", changed)
    return Observed(name, complete=True)


def _run(
    session: _Session,
    trials: TrialRunner,
    writer: RecordWriter,
    pace: Pace,
    lookout: Lookout,
    interrupts: Interrupts,
    done: set[tuple[int, int]],
) -> None:
    study = session.study
    keys = [workload_key(workload) for workload in study.workloads]
    assert study.seed is not None
    watch = MachineWatch(session.world.machine_state, writer, clock=session.world.monotonic)
    plan = plan_rounds(study.seed, keys, len(study.arms), study.blocks)
    for number, planned in groupby(plan, key=lambda block: block.number):
        coming = [b for b in planned if b.workload in lookout.live and (b.workload, number) not in done]
        for place, block in enumerate(coming):
            watch.next_block(number)
            session.observer.progressed(_settled(session, block, trials, writer, pace, interrupts))
            if interrupts.asked and place + 1 < len(coming):
                raise _StopAskedError
        lookout.after_round(number + 1)
        pace.live = lookout.live
        if not pace.live:
            break
        if interrupts.asked and number + 1 < study.blocks:
            raise _StopAskedError
    watch.close()


def _settled(
    session: _Session,
    block: PlannedBlock,
    trials: TrialRunner,
    writer: RecordWriter,
    pace: Pace,
    interrupts: Interrupts,
) -> Progress:
    """Run a block, and again where the machine slept in it; say how far things are."""
    for attempt in range(_ATTEMPTS):
        begun, offset = session.world.monotonic(), session.world.clock_offset()
        outcomes = _block(session, block, trials, writer, interrupts)
        gap = abs(session.world.clock_offset() - offset)
        if gap <= _CLOCK_GAP_S or attempt == _ATTEMPTS - 1:
            break
        writer.void(block.workload, block.number)
        name = session.study.workloads[block.workload].name
        sentence = f"Block {block.number} of {name} was run again: the machine slept or its clock was set."
        writer.remark(sentence)
        session.observer.remark(sentence)
    return pace.add(block, outcomes, session.world.monotonic() - begun)


def _block(
    session: _Session, block: PlannedBlock, trials: TrialRunner, writer: RecordWriter, interrupts: Interrupts
) -> dict[int, TrialOutcome]:
    """Run one block; every trial is on disk before the next begins."""
    outcomes: dict[int, TrialOutcome] = {}
    study, workload = session.study, session.study.workloads[block.workload]
    conditions = block_conditions(study.seed or 0, workload_key(workload), block.number, study.vary)
    for order, arm in enumerate(block.order):
        if order and interrupts.asked:
            raise _StopAskedError
        outcomes[arm] = trials.run(block.workload, arm, conditions=conditions)
        last = order == len(block.order) - 1
        writer.trial(block.workload, block.number, arm, order, outcomes[arm], workload.limit_s, last, conditions)
    return outcomes
