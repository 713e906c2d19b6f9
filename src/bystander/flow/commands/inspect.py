"""`bystander inspect`: one state of a workload is looked into, apart from any timed trial."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import (
    COUNTED,
    INSPECTED,
    ArmState,
    MachineFacts,
    RecordHead,
    State,
    Study,
    chosen_names,
)
from bystander.errors import UsageError
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
from bystander.flow.inside.closely import count_closely
from bystander.flow.inside.growing import growing_workloads, watch_growth
from bystander.flow.inside.inspection import Inspection
from bystander.flow.inside.runs import begun_run, ended_well, ready_trials
from bystander.flow.inside.slow import watch_slow
from bystander.flow.inside.targets import compared_record
from bystander.flow.observer import Observer
from bystander.flow.sessions.heads import begun_head, home_of, refuse_foreign
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.trials.ready import make_arms
from bystander.foresight import shims
from bystander.units import listed

__all__ = ["Asked", "Inspected", "comparable", "inspect_recorded", "inspect_study", "state_of"]

# A program with a window finds its display by these.
DISPLAY_VARIABLES = (
    "DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY", "XDG_RUNTIME_DIR", "XDG_SESSION_TYPE", "DBUS_SESSION_BUS_ADDRESS",
)  # fmt: skip
_FOR_EVER_S = 30 * 86400.0
_SOON_S = 5.0  # counting that takes longer comes after a first look at what was watched

Seen = Callable[[str, int], None]  # is given a record and the number of a run that can be shown


@dataclass(frozen=True)
class Inspected:
    """The inspection that was made.

    Attributes
    ----------
    record : str
    number : int
        Of its run in the record.
    complete : bool
        Whether it was not interrupted.
    """

    record: str
    number: int
    complete: bool


def inspect_study(
    study: Study,
    home: StudyFolder,
    archive: Path,
    caller: Mapping[str, str],
    observer: Observer,
    place: tuple[int, int],
    asked: Asked,
    *,
    way: str | None = None,
    wait: bool = False,
    limit_s: float | None = None,
    seen: Seen | None = None,
    only: Sequence[str] = (),
) -> Inspected:
    """Look into one state of a study, in a record of its own, which has no timed trials.

    Parameters
    ----------
    place : (int, int)
        Positions of workload and arm.
    limit_s : float, optional
        When a trial is ended; what was seen until then is kept.
    seen : callable, optional
        Is called when the watched trials can be shown and counting takes a while yet.
    only : sequence of str
        Workloads whose growth is asked for.

    Raises
    ------
    MachineBusyError, ArmError, ArchiveError, LauncherError, StudyError
    """
    found = found_way(way)
    study = replace(study, seed=secrets.randbits(48) if study.seed is None else study.seed)
    if asked.by_hand:
        study = replace(study, keep_environment=(*study.keep_environment, *DISPLAY_VARIABLES))
    with MachineLock(study.name, waiting=observer.remark if wait else None) as lock:
        home.keep_beside(archive)
        maker = ArmMaker(home, caller, archive)
        arms, _ = make_arms(study, maker, observer)
        for sentence in shims(arms):
            observer.remark(sentence)
        with Archive(archive, create=True) as kept:
            head = begun_head(study, home, arms, machine_facts(), time.time(), only_inspected=True)
            writer, name = kept.begin(head)
            writer.finish(State.COMPLETE)
            setting = _Setting(
                kept, kept.head(name), arms[place[1]], place, observer, asked, found, limit_s, seen, tuple(only)
            )  # fmt: skip
            return _inspect(setting, lock)


def inspect_recorded(
    archive: Path,
    name: str | None,
    caller: Mapping[str, str],
    observer: Observer,
    only: str | None,
    arm: str | None,
    asked: Asked,
    *,
    way: str | None = None,
    wait: bool = False,
    limit_s: float | None = None,
    seen: Seen | None = None,
) -> Inspected:
    """Look into one state of a record, in the very arm that it had.

    Raises
    ------
    UsageError
        When somebody else's file made the record: what it says is never run.
    ArmError
        When the arm is not what it was.
    """
    found = found_way(way)
    with Archive(archive) as kept:
        head = kept.head(name)
        refuse_foreign(head, "inspect its study instead")
        with MachineLock(head.study.name, waiting=observer.remark if wait else None) as lock:
            home = home_of(head)
            home.keep_beside(archive)
            maker = ArmMaker(home, caller, archive)
            place = state_of(head.study, only, arm)
            state = maker.again(head.study, head.study.arms[place[1]], head.arms[place[1]])
            observer.made(state)
            return _inspect(_Setting(kept, head, state, place, observer, asked, found, limit_s, seen), lock)


def comparable(archive: Path, name: str | None) -> bool:
    """Whether a record holds arms against each other, so that both can be looked into side by side."""
    with Archive(archive) as kept:
        return bool(compared_record(kept, name).study.comparisons)


def state_of(study: Study, only: str | None, arm: str | None, any_workload: bool = False) -> tuple[int, int]:
    """Return the positions of the workload and the arm that are meant; the last arm where none is named.

    Parameters
    ----------
    any_workload : bool
        Whether only the arm matters.

    Raises
    ------
    UsageError
        When there is no such, or several workloads could be meant.
    """
    names = [workload.name for workload in study.workloads]
    chosen = chosen_names(study.workloads, [only], "the study") if only else tuple(names)
    if len(chosen) != 1 and not any_workload:
        raise UsageError(
            f"one workload is looked into at a time, and there are {listed(chosen, 8)}; choose with --only"
        )
    arms = [one.name for one in study.arms]
    if arm is not None and arm not in arms:
        raise UsageError(f'--arm: there is no arm "{arm}"; there are {listed(arms, 8)}')
    own = [one.name for one in study.arms if not one.placebo]
    return names.index(chosen[0]), arms.index(arm if arm is not None else own[-1])


@dataclass(frozen=True)
class _Setting:
    """What stays the same for the runs of one inspection."""

    kept: Archive
    head: RecordHead
    arm: ArmState
    place: tuple[int, int]
    observer: Observer
    asked: Asked
    way: FoundWay
    limit_s: float | None
    seen: Seen | None
    only: tuple[str, ...] = ()
    seed: int = field(default_factory=lambda: secrets.randbits(48))
    machine: MachineFacts = field(default_factory=machine_facts)

    def begin(self, purpose: str, **more: object) -> tuple[RecordWriter, int]:
        """Begin a run of the record; return its writer and number."""
        workload, arm = self.place
        options = {"workload": workload, "arm": arm, **more}
        run, writer = begun_run(self.kept, self.head.uuid, purpose, self.seed, self.machine, options)
        return writer, run.number


def _inspect(setting: _Setting, lock: MachineLock) -> Inspected:
    """Run one inspection of a record: watched trials, then those whose calls are counted."""
    way, asked = setting.way, setting.asked
    if asked.closely:
        (workload, arm), limit_s = setting.place, setting.limit_s
        arms = {arm: setting.arm}
        number, whole = count_closely(
            setting.kept, setting.head, workload, arms, asked.closely, setting.observer, lock, limit_s
        )
        return Inspected(setting.head.name, number, whole)
    if asked.slow:
        number, whole = watch_slow(
            setting.kept, setting.head, *setting.place, setting.arm, asked.slow, setting.observer, lock, way,
            setting.limit_s,
        )  # fmt: skip
        return Inspected(setting.head.name, number, whole)
    if asked.growth:
        workloads = growing_workloads(setting.head.study, setting.only, asked.growth.name)
        number, whole = watch_growth(
            setting.kept, setting.head, workloads, setting.place[1], setting.arm, asked.growth, setting.observer, lock,
            way, setting.limit_s,
        )  # fmt: skip
        return Inspected(setting.head.name, number, whole)
    if way.sentence:
        setting.observer.remark(way.sentence)
    with Interrupts() as interrupts, Launcher(lock.fd, interrupts.fd) as launcher:
        interrupts.at_once = launcher.kill_at_once
        inspection = _prepared(setting, launcher, interrupts)
        writer, number = setting.begin(INSPECTED, way=way.way, lost=way.sentence, by_hand=asked.by_hand)
        stopped = not _watched(inspection, writer, number)
        if not interrupts.asked and inspection.wants_counts():
            if setting.seen and inspection.counting_s > _SOON_S:
                setting.seen(setting.head.name, number)
            stopped = not _counted(inspection, setting.begin(COUNTED, inspection=number)[0])
    return Inspected(setting.head.name, number, not stopped)


def _prepared(setting: _Setting, launcher: Launcher, interrupts: Interrupts) -> Inspection:
    """Return the inspection of a state, with its command as it runs there."""
    (w, a), asked = setting.place, setting.asked
    limit_s = setting.limit_s or (_FOR_EVER_S if asked.by_hand else None)
    study, trials = ready_trials(setting.head, w, {a: setting.arm}, launcher, limit_s)
    return Inspection(study, w, a, trials, launcher, interrupts, setting.way, asked, setting.observer, setting.seed)


def _watched(inspection: Inspection, writer: RecordWriter, number: int) -> bool:
    """Run the watched trials; return whether they were not interrupted. Driven by hand, that is how they end."""

    def watch() -> bool:
        if inspection.way.way != COUNTS_ONLY:
            inspection.watch(writer, number)
        return inspection.asked.by_hand or not inspection.interrupts.asked

    return ended_well(writer, watch)


def _counted(inspection: Inspection, writer: RecordWriter) -> bool:
    """Run the counting trials; return whether they were not interrupted."""

    def count() -> bool:
        inspection.count(writer)
        return True

    return ended_well(writer, count)
