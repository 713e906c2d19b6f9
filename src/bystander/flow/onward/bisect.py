"""`bystander bisect`: commits are built as they are asked for and tried against the good end, block by block."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    DEFAULT_BLOCKS,
    Comparison,
    StoppingRule,
    Study,
    is_range,
    with_only,
)
from bystander.errors import UsageError
from bystander.field import (
    ArmMaker,
    MachineLock,
    StudyFolder,
)
from bystander.flow.chains.bisected import (
    Search,
    kept_search,
    search_of,
)
from bystander.flow.chains.searched import newest_search
from bystander.flow.chains.states import range_commits
from bystander.flow.observer import Observer
from bystander.flow.onward.asked import AskedBisect
from bystander.flow.onward.chain import template_arm
from bystander.flow.onward.searching import Work
from bystander.flow.sessions.early_ends import noting
from bystander.flow.sessions.heads import begun_head, home_of, refuse_foreign
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.sessions.keeping import Keeper, Keeping
from bystander.flow.sessions.rehearsal import rehearse
from bystander.flow.sessions.session import World
from bystander.flow.trials.answers import Answers
from bystander.flow.trials.calibration import calibrated
from bystander.flow.trials.own_files import OwnFiles
from bystander.flow.trials.ready import make_arms, ready_commands, run_before_all
from bystander.flow.trials.starts import Starts
from bystander.flow.trials.trial import TrialRunner
from bystander.units import counted
from bystander.verdicts import Commit

__all__ = ["bisect", "resume_bisection"]

_MOST_COMMITS = 20_000


def _line(what: str, home: StudyFolder, every: bool) -> tuple[Commit, ...]:
    """Return the commits of a range, the good end first."""
    commits = tuple(Commit(*one) for one in range_commits(what, home, every))
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
            work = Work(kept, head, search, maker, launcher, interrupts, observer, world, archive, home,
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
        head = kept.head(name) if name else newest_search(kept.heads(), archive)
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
                work = Work(kept, head, search, maker, launcher, interrupts, observer, world, archive, home,
                             {head.timed_run.number: writer}, dict(commands))  # fmt: skip
                work.made = {state.name: a for a, state in enumerate(arms)}
                work.rows = {key: dict(rows) for key, rows in kept_search(kept, head).blocks.items()}
                work.run()
    return head.name
