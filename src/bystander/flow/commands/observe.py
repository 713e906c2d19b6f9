"""`bystander observe`: the trials of a study, each on disk before the next begins; and their resumption."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    ArmState,
    MachineFacts,
    Record,
    RecordHead,
    Study,
)
from bystander.errors import UsageError
from bystander.field import ArmMaker, MachineLock, StudyFolder
from bystander.flow.chains.making import made_chain
from bystander.flow.chains.seen import foreseen_links
from bystander.flow.chains.states import chain_of
from bystander.flow.observer import Observer
from bystander.flow.sessions.early_ends import noting
from bystander.flow.sessions.heads import begun_head, home_of, refuse_foreign
from bystander.flow.sessions.keeping import Keeper, Keeping
from bystander.flow.sessions.pauses import Spread
from bystander.flow.sessions.session import BegunRecord, Foresee, Observed, Session, World, run_session
from bystander.flow.trials.arm_files import ArmFiles
from bystander.flow.trials.ready import make_arms, ready_commands
from bystander.flow.trials.signs import signs
from bystander.foresight import alike, refuse_few_trials, refuse_too_few, shims, spaced, too_few

__all__ = ["Observed", "World", "observe", "resume"]


def observe(
    study: Study,
    home: StudyFolder,
    archive: Path,
    caller: Mapping[str, str],
    observer: Observer,
    *,
    budget_s: float | None = None,
    wait: bool = False,
    world: World | None = None,
    keeping: Keeping | None = None,
    spread: Spread | None = None,
    foresee: Foresee | None = None,
) -> Observed:
    """Run all trials of a study into a new record.

    Parameters
    ----------
    budget_s : float, optional
        Set the number of blocks once, before the first one, to what fits in this time.
    wait : bool
        Wait until another observation on this machine has ended.
    keeping : Keeping, optional
        How much is kept of the folders that arms run in; what is usual by default.
    spread : Spread, optional
        Over how many sessions the rounds are spread.
    foresee : callable, optional
        May refuse before the first block, see `Session`; of a chain it does by default.

    Raises
    ------
    MachineBusyError, ArmError, ArchiveError, LauncherError, StudyError
    """
    world = world or World()
    study = replace(study, seed=secrets.randbits(48) if study.seed is None else study.seed)
    study = chain_of(study, home, archive)
    if study.chain and not budget_s:
        refuse_too_few(study)
        foresee = foresee or foreseen_links(None)
    names: list[str] = []
    with (
        noting(archive, study.name, names),
        MachineLock(study.name, waiting=observer.remark if wait else None) as lock,
    ):
        if not budget_s:
            refuse_few_trials(study)
            if spread:
                spread.refuse(max(study.planned_blocks))
        if spread:
            observer.remark(spread.sentence)
        for sentence in () if budget_s else too_few(study):
            observer.remark(sentence)
        home.keep_beside(archive)
        maker = ArmMaker(home, caller, archive)
        study = made_chain(study, maker, observer)
        keeper = Keeper(study, home, maker, keeping or Keeping())
        keeper.before_making(observer)
        arms, commands = make_arms(study, maker, observer)
        for sentence in (*alike(study, arms), *spaced(study), *shims(arms), *signs(study, arms, commands)):
            observer.remark(sentence)
        files = ArmFiles(maker, study, arms)
        with Archive(archive, create=True) as kept:

            def begin(planned: Study) -> BegunRecord:
                if spread:
                    spread.refuse(max(planned.planned_blocks))
                options = spread.options if spread else {}
                head = begun_head(planned, home, arms, world.machine(), world.wall(), options=options)
                writer, name = kept.begin(head)
                names.append(name)
                keeper.write(head.uuid, arms, observer)
                return BegunRecord(name, head.timed_run, writer, lambda: kept.load(name), still_there=kept.still_there)

            session = Session(
                study,
                arms,
                maker,
                files,
                archive,
                home.own / "answers",
                commands,
                observer,
                world,
                begin,
                budget_s,
                spread,
                foresee,
            )
            return run_session(session, lock)


def resume(
    archive: Path,
    name: str | None,
    caller: Mapping[str, str],
    observer: Observer,
    *,
    elsewhere: bool = False,
    wait: bool = False,
    world: World | None = None,
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
    world = world or World()
    with Archive(archive) as kept:
        head = kept.head(name)
        _refuse_to_resume(head)
        with MachineLock(head.study.name, waiting=observer.remark if wait else None) as lock:
            # Only now: whoever held the lock may have been finishing this very record.
            record = kept.load(head.uuid)
            head = record.head
            _refuse_to_resume(head)
            now = world.machine()
            moved = _moved(head.machine, now)
            if moved and not elsewhere:
                raise UsageError(f"record {head.name}: {moved}; --elsewhere goes on all the same, and says so")
            home = home_of(head)
            home.keep_beside(archive)
            maker = ArmMaker(home, caller, archive)
            arms = _arms_again(head.study, head.arms, maker)
            for arm in arms:
                observer.made(arm)

            def begin(_planned: Study) -> BegunRecord:
                writer = kept.resume(head, now)
                if moved:
                    writer.remark(f"Resumed elsewhere: {moved}.")
                done, machine = _whole_blocks(record), len(head.machines)
                return BegunRecord(
                    head.name, head.timed_run, writer, lambda: kept.load(head.uuid), machine, done, kept.still_there
                )

            files, commands = ArmFiles(maker, head.study, arms), ready_commands(head.study, arms)
            answers = home.own / "answers"
            spread = Spread.of(head.timed_run.options)
            session = Session(
                head.study, arms, maker, files, archive, answers, commands, observer, world, begin, spread=spread
            )
            return run_session(session, lock)


def _refuse_to_resume(head: RecordHead) -> None:
    """Raise UsageError unless the record was begun here and is not finished: a record holds commands."""
    refuse_foreign(head, "observe its study anew, after reading it")
    if head.is_search and not head.complete:
        raise UsageError(
            f"record {head.name} is a search for a commit; bystander bisect --resume {head.name} finishes it"
        )
    if head.complete:
        raise UsageError(f"record {head.name} is complete; there is nothing to resume")


def _whole_blocks(record: Record) -> frozenset[tuple[int, int]]:
    trials = record.trials
    return frozenset(zip(trials.workload.tolist(), trials.block.tolist(), strict=True))


def _moved(then: MachineFacts, now: MachineFacts) -> str:
    """Say how the machine is not the one it was, or ""."""
    for key, what in (("host", "machine"), ("processor", "processor"), ("cores", "number of cores")):
        before, after = getattr(then, key), getattr(now, key)
        if before != after:
            return f"it ran on another {what} ({before} then, {after} now)"
    return "the machine was started again since" if then.boot_id != now.boot_id else ""


def _arms_again(study: Study, states: tuple[ArmState, ...], maker: ArmMaker) -> tuple[ArmState, ...]:
    return tuple(maker.again(study, arm, state) for arm, state in zip(study.arms, states, strict=True))
