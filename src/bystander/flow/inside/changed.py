"""Where did it change: workloads of a record are watched in both of their arms, apart from any timed trial."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import (
    COUNTED,
    INSPECTED,
    Account,
    ArmState,
    Given,
    RecordHead,
    Run,
    State,
    Whose,
    command_line,
    inspections,
    told_account,
)
from bystander.errors import InspectionError
from bystander.evidence import ACCOUNT_KIND, EDITS_KIND, packed
from bystander.field import (
    COUNTS_ONLY,
    ArmMaker,
    FoundWay,
    Launcher,
    MachineLock,
    StudyFolder,
    found_way,
    machine_facts,
)
from bystander.flow.inside.asked import Asked
from bystander.flow.inside.runs import begun_run, ended_well, ready_trials
from bystander.flow.inside.side_by_side import Plan, SideBySide, Tried
from bystander.flow.inside.targets import Target, compared_record, planned_targets, target_of, targets_of, unfinished
from bystander.flow.leads.accounts import MOST_BLOCKS, account_of
from bystander.flow.leads.edits import edits_between, with_hunks
from bystander.flow.leads.kept import Kept, read_inspection
from bystander.flow.observer import Observer
from bystander.flow.sessions.heads import home_of, refuse_foreign
from bystander.flow.sessions.interrupts import Interrupts
from bystander.units import duration_text

__all__ = ["InspectedChanges", "inspect_changed", "resume_inspection"]

Seen = Callable[[str, int], None]


@dataclass(frozen=True)
class InspectedChanges:
    """The inspections that were made.

    Attributes
    ----------
    record : str
    numbers : tuple of int
        Of their runs in the record.
    complete : bool
        Whether none was interrupted.
    """

    record: str
    numbers: tuple[int, ...]
    complete: bool


@dataclass
class _Work:
    """What stays the same for the inspections of one command."""

    kept: Archive
    head: RecordHead
    arms: dict[int, ArmState]
    home: StudyFolder
    observer: Observer
    asked: Asked
    way: FoundWay
    limit_s: float | None
    seen: Seen | None
    given: Given
    together: str = field(default_factory=lambda: secrets.token_hex(4))
    numbers: list[int] = field(default_factory=list)
    prepared: set[int] = field(default_factory=set)


def inspect_changed(
    archive: Path,
    name: str | None,
    caller: Mapping[str, str],
    observer: Observer,
    only: Sequence[str],
    asked: Asked,
    *,
    way: str | None = None,
    wait: bool = False,
    limit_s: float | None = None,
    seen: Seen | None = None,
    given: Given | None = None,
) -> InspectedChanges:
    """Watch the workloads of a record that changed, or those that are named, in both of their very arms.

    Parameters
    ----------
    only : sequence of str
        Workloads, by names or patterns; none for those that changed.
    seen : callable, optional
        Is called with record and number of the run when the account of one workload can be shown.
    given : Given
        What the commands that are told must repeat.

    Raises
    ------
    UsageError
        When somebody else's file made the record: what it says is never run.
    InspectionError
        When nothing changed and no workload is named, or a trial does not come to a good end.
    ArmError
        When an arm is not what it was.
    """
    found = found_way(way)
    with Archive(archive) as kept:
        head = compared_record(kept, name)
        refuse_foreign(head, "inspect its study instead")
        targets = targets_of(kept, head, only, observer, given or Given())
        with MachineLock(head.study.name, waiting=observer.remark if wait else None) as lock:
            work = _work(kept, head, targets, caller, observer, asked, found, limit_s, seen, archive, given or Given())
            return _inspect(work, targets, lock)


def resume_inspection(
    archive: Path,
    name: str | None,
    caller: Mapping[str, str],
    observer: Observer,
    *,
    wait: bool = False,
    seen: Seen | None = None,
    given: Given | None = None,
) -> InspectedChanges:
    """Finish the newest inspection of two states that was not finished, with those that were to follow it.

    Raises
    ------
    UsageError
        When there is none.
    """
    with Archive(archive) as kept:
        head, run = unfinished(kept, name)
        refuse_foreign(head, "inspect its study instead")
        with MachineLock(head.study.name, waiting=observer.remark if wait else None) as lock:
            head, run = unfinished(kept, head.name)
            options = run.options
            tick, counts, trials = (options.get(key) for key in ("tick_s", "counts", "trials"))
            asked = Asked(
                tick if isinstance(tick, float) else None, counts if isinstance(counts, bool) else None, False,
                trials if type(trials) is int and trials > 0 else None,
            )  # fmt: skip
            targets = planned_targets(head, run)
            limit = options.get("limit_s")
            found = found_way(str(options.get("way")) if options.get("way") else None)
            work = _work(
                kept, head, targets, caller, observer, asked, found, limit if isinstance(limit, float) else None, seen,
                archive, given or Given(),
            )  # fmt: skip
            work.together = str(options.get("together"))
            return _inspect(work, targets, lock)


def _work(
    kept: Archive, head: RecordHead, targets: Sequence[Target], caller: Mapping[str, str], observer: Observer,
    asked: Asked, way: FoundWay, limit_s: float | None, seen: Seen | None, archive: Path,
    given: Given,
) -> _Work:  # fmt: skip
    """Make the arms that are needed ready, in the very state that they had."""
    home = home_of(head)
    home.keep_beside(archive)
    maker = ArmMaker(home, caller, archive)
    arms = {}
    for place in sorted({arm for _, *both in targets for arm in both}):
        arms[place] = maker.again(head.study, head.study.arms[place], head.arms[place])
        observer.made(arms[place])
    if way.sentence:
        observer.remark(way.sentence)
    if way.way == COUNTS_ONLY:
        raise InspectionError("two states cannot be watched here, only counted; inspect one state with --arm")
    return _Work(kept, head, arms, home, observer, asked, way, limit_s, seen, given)


def _inspect(work: _Work, targets: Sequence[Target], lock: MachineLock) -> InspectedChanges:
    with Interrupts() as interrupts, Launcher(lock.fd, interrupts.fd) as launcher:
        interrupts.at_once = launcher.kill_at_once
        for target in targets:
            try:
                complete = _one(work, target, targets, launcher, interrupts)
            except KeyboardInterrupt:
                complete = False
            if not complete:
                return InspectedChanges(work.head.name, tuple(work.numbers), False)
    return InspectedChanges(work.head.name, tuple(work.numbers), True)


def _one(work: _Work, target: Target, targets: Sequence[Target], launcher: Launcher, interrupts: Interrupts) -> bool:
    """Look into one workload under two arms, or finish that; return whether it was not interrupted."""
    head = work.kept.head(work.head.uuid)
    mine = [
        run for run in inspections(head)
        if run.options.get("together") == work.together and target_of(head, run) == target
    ]  # fmt: skip
    run = mine[-1] if mine else None
    if run and run.state == State.COMPLETE:
        return True
    seed = run.seed if run else secrets.randbits(48)
    side = _prepared(work, target, launcher, interrupts, seed, run)
    name = head.study.workloads[target[0]].name
    arms = [head.study.arms[one].name for one in target[1:]]
    work.observer.doing(f"watching {name} under {arms[0]} and {arms[1]}, each once first")
    tried = side.try_once()
    if tried.failed:
        arm = head.study.arms[tried.arm].name
        again = command_line("inspect", head.name, "--only", name, "--arm", arm, given=work.given)
        raise InspectionError(f"{tried.failed}; look into that state alone: {again}")
    if run:
        tick, several = run.options.get("tick_ns"), run.options.get("each")
        tried = replace(tried, tick_ns=tick) if isinstance(tick, int) else tried
        side.plan = replace(side.plan, each=several if isinstance(several, int) and 0 < several < 100 else 1)
    elif work.asked.trials is None:
        side.plan_each(tried)
    side.check_space(tried, work.kept.path)
    counting = side.wants_counts(tried)
    most = duration_text(side.expected_s(tried, counting), 2)
    each = f" of {side.plan.each} trials an arm" if side.plan.each > 1 else ""
    then = ", then calls are counted" if counting else ""
    work.observer.doing(f"{name}: up to {side.plan.blocks} blocks{each}{then}: at most {most}")
    run, writer = _begun(work, head, target, targets, run, seed, tried, side.plan.each)
    work.numbers.append(run.number)
    side.account = lambda: _account(work, target, run)

    def work_through() -> bool:
        side.watch(writer, run.number, tried)
        if interrupts.asked or (counting and not _counted(work, side, run, target)):
            return False
        _write_account(work, target, writer, run)
        return True

    complete = ended_well(writer, work_through)
    if work.seen and side.whole:
        work.seen(head.name, run.number)
    return complete


def _begun(
    work: _Work,
    head: RecordHead,
    target: Target,
    targets: Sequence[Target],
    run: Run | None,
    seed: int,
    tried: Tried,
    each: int,
) -> tuple[Run, RecordWriter]:
    """Begin the inspection's run, or take it up."""
    if run:
        return run, work.kept.resume(head, machine_facts(), run.number)
    asked, way = work.asked, work.way
    workload, against, arm = target
    options = {
        "workload": workload, "arm": arm, "against": against, "way": way.way, "lost": way.sentence,
        "together": work.together, "planned": [list(one) for one in targets], "tick_ns": tried.tick_ns,
        "tick_s": asked.tick_s, "counts": asked.counts, "trials": asked.trials, "limit_s": work.limit_s,
        "fixed": asked.trials is not None, "each": each,
    }  # fmt: skip
    return begun_run(work.kept, head.uuid, INSPECTED, seed, machine_facts(), options)


def _prepared(
    work: _Work, target: Target, launcher: Launcher, interrupts: Interrupts, seed: int, run: Run | None
) -> SideBySide:
    """Return the trials of a workload under two arms, with its commands as they run there."""
    (w, against, arm), asked = target, work.asked
    arms = {a: work.arms[a] for a in (against, arm)}
    study, trials = ready_trials(work.head, w, arms, launcher, work.limit_s, work.prepared)
    plan = Plan(asked.trials, fixed=True) if asked.trials else Plan(MOST_BLOCKS)
    done = _done(work, run) if run else frozenset()
    return SideBySide(
        study, w, (against, arm), trials, launcher, interrupts, work.way, asked, work.observer, seed, plan,
        _unknown, done,
    )  # fmt: skip


def _unknown() -> Account:
    raise AssertionError("no account is asked for before the first block")


def _done(work: _Work, run: Run) -> frozenset[int]:
    """Return the numbers of trials of an unfinished inspection that are in whole blocks that went well."""
    return frozenset(int(before.summary["block"]) for before, _ in _read(work, run).pairs)


def _counted(work: _Work, side: SideBySide, inspected: Run, target: Target) -> bool:
    """Run the counting trials of both arms; return whether they were not interrupted."""
    options = {"workload": target[0], "arm": target[2], "against": target[1], "inspection": inspected.number}
    work.observer.doing(f"counting calls of {work.head.study.workloads[target[0]].name} in both arms")
    _, writer = begun_run(work.kept, work.head.uuid, COUNTED, inspected.seed, machine_facts(), options)

    def count() -> bool:
        side.count(writer)
        return True

    return ended_well(writer, count)


def _read(work: _Work, run: Run) -> Kept:
    head = work.kept.head(work.head.uuid)
    return read_inspection(work.kept, head, next(one for one in head.runs if one.number == run.number))


def _account(work: _Work, target: Target, run: Run) -> Account:
    kept = _read(work, run)
    edits = edits_between(kept, (work.arms[target[1]], work.arms[target[2]]), None)
    return account_of(replace(kept, edits=edits), places=False)


def _write_account(work: _Work, target: Target, writer: RecordWriter, run: Run) -> None:
    """Keep what was edited, of what trials met, and the account in words."""
    kept = _read(work, run)
    edits = edits_between(kept, (work.arms[target[1]], work.arms[target[2]]), work.home.git)
    told = told_account(with_hunks(account_of(replace(kept, edits=edits)), edits))
    packets = [packed(EDITS_KIND, edits, {"matches": len(edits.matches)})]
    packets.append(packed(ACCOUNT_KIND, told, {"leads": len(told.leads)}))
    writer.evidence(Whose(run.number, target[0], target[2]), packets)
