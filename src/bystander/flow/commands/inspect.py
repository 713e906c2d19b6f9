"""`bystander inspect`: one state of a workload is looked into, apart from any timed trial."""

from __future__ import annotations

import secrets
import time
import uuid
from collections.abc import Callable, Mapping
from contextlib import ExitStack, suppress
from dataclasses import dataclass, replace
from pathlib import Path

from bystander import __version__
from bystander.archive import Archive
from bystander.archive.writer import RecordWriter
from bystander.design import (
    COUNTED,
    INSPECTED,
    OBSERVED,
    TIMED,
    ArmState,
    Origin,
    Provenance,
    RecordHead,
    Run,
    State,
    Study,
    chosen_names,
)
from bystander.errors import ArmError, LauncherError, UsageError
from bystander.field import (
    COUNTS_ONLY,
    ArmMaker,
    FoundWay,
    Launcher,
    MachineLock,
    Site,
    StudyFolder,
    found_way,
    machine_facts,
    ready_workload,
    stub_for,
)
from bystander.flow.observer import Observer
from bystander.flow.sessions.inspection import Asked, Inspection
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.trials.answers import Answers
from bystander.flow.trials.kinds import joined_kind
from bystander.flow.trials.ready import make_arms
from bystander.flow.trials.starts import Starts
from bystander.flow.trials.trial import TrialRunner
from bystander.foresight import shims
from bystander.units import listed

__all__ = ["Asked", "Inspected", "begun_record", "inspect_recorded", "inspect_study", "state_of"]

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
            head = begun_record(study, home, arms)
            writer, name = kept.begin(head)
            writer.finish(State.COMPLETE)
            return _inspect(kept, kept.head(name), arms[place[1]], lock, observer, place, asked, found, limit_s, seen)


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
        if not head.observed_here:
            how = head.provenance or Provenance.IMPORTED
            raise UsageError(
                f"record {head.name} was {how}, and what was {how} is never run; inspect its study instead"
            )
        with MachineLock(head.study.name, waiting=observer.remark if wait else None) as lock:
            home = StudyFolder(Path(head.study_folder))
            if not home.path.is_dir():
                raise ArmError(f"the study's folder {home.path} is gone")
            home.keep_beside(archive)
            maker = ArmMaker(home, caller, archive)
            place = state_of(head.study, only, arm)
            state = maker.again(head.study, head.study.arms[place[1]], head.arms[place[1]])
            observer.made(state)
            return _inspect(kept, head, state, lock, observer, place, asked, found, limit_s, seen)


def state_of(study: Study, only: str | None, arm: str | None) -> tuple[int, int]:
    """Return the positions of the workload and the arm that are meant; the last arm where none is named.

    Raises
    ------
    UsageError
        When there is no such, or several workloads could be meant.
    """
    names = [workload.name for workload in study.workloads]
    chosen = chosen_names(study.workloads, [only], "the study") if only else tuple(names)
    if len(chosen) != 1:
        raise UsageError(
            f"one workload is looked into at a time, and there are {listed(chosen, 8)}; choose with --only"
        )
    arms = [one.name for one in study.arms]
    if arm is not None and arm not in arms:
        raise UsageError(f'--arm: there is no arm "{arm}"; there are {listed(arms, 8)}')
    own = [one.name for one in study.arms if not one.placebo]
    return names.index(chosen[0]), arms.index(arm if arm is not None else own[-1])


def _inspect(
    kept: Archive,
    head: RecordHead,
    arm: ArmState,
    lock: MachineLock,
    observer: Observer,
    place: tuple[int, int],
    asked: Asked,
    way: FoundWay,
    limit_s: float | None,
    seen: Seen | None,
) -> Inspected:
    """Run one inspection of a record."""
    study, (w, a) = head.study, place
    if way.sentence:
        observer.remark(way.sentence)
    machine, number = machine_facts(), len(head.runs)
    seed = secrets.randbits(48)

    def begin(purpose: str) -> tuple[RecordWriter, int]:
        known = kept.head(head.uuid)
        options = {"workload": w, "arm": a, "way": way.way, "lost": way.sentence, "by_hand": asked.by_hand}
        if purpose == COUNTED:
            options = {"workload": w, "arm": a, "inspection": number}
        at = max((run.number for run in known.runs), default=-1) + 1
        run = Run(at, purpose, seed, machine=len(known.machines), options=options, began_wall_s=time.time())
        return kept.begin_run(known, run, machine), at

    writer: RecordWriter | None = None
    with ExitStack() as stack:
        interrupts = stack.enter_context(Interrupts())
        launcher = stack.enter_context(Launcher(lock.fd, interrupts.fd))
        site, stub = Site(study.arms[a], arm.folder, arm.facts.environment), stub_for(study)
        command = ready_workload(study.workloads[w], site, stub)
        workload = joined_kind(study.workloads[w].kind).calibrated(study.workloads[w], launcher, command.command)
        command = ready_workload(workload, site, stub)
        if limit_s or asked.by_hand:
            command = replace(command, command=replace(command.command, limit_s=limit_s or _FOR_EVER_S))
        study = replace(study, workloads=(*study.workloads[:w], workload, *study.workloads[w + 1 :]))
        answers = Answers(study, StudyFolder(Path(head.study_folder)).own / "answers")
        trials = TrialRunner(launcher, {place: command}, answers, Starts(study))
        inspection = Inspection(study, w, a, trials, launcher, interrupts, way, asked, observer, seed)
        writer, number = begin(INSPECTED)
        stopped = False
        try:
            if way.way != COUNTS_ONLY:
                inspection.watch(writer, number)
            stopped = interrupts.asked and not asked.by_hand
        except KeyboardInterrupt:
            stopped = True
        except LauncherError:
            writer.finish(State.INTERRUPTED)
            raise
        writer.finish(State.INTERRUPTED if stopped else State.COMPLETE)
        if not interrupts.asked and inspection.wants_counts():
            if seen and inspection.counting_s > _SOON_S:
                seen(head.name, number)
            counting, _ = begin(COUNTED)
            state = State.INTERRUPTED
            try:
                with suppress(KeyboardInterrupt):
                    inspection.count(counting)
                    state = State.COMPLETE
            finally:
                counting.finish(state)
            stopped = state is State.INTERRUPTED
    return Inspected(head.name, number, not stopped)


def begun_record(study: Study, home: StudyFolder, arms: tuple[ArmState, ...]) -> RecordHead:
    """Return the head of a record for inspections alone: its timed run has no trials."""
    began = time.time()
    return RecordHead(
        uuid=str(uuid.uuid4()),
        name="",
        origin=Origin.OBSERVED,
        state=State.RUNNING,
        started_wall_s=began,
        study=study,
        study_folder=str(home.path),
        study_file=home.file,
        arms=arms,
        workload_keys=(),
        measures=OBSERVED,
        machines=(machine_facts(),),
        version=__version__,
        runs=(Run(purpose=TIMED, seed=study.seed or 0, began_wall_s=began),),
    )
