"""`bystander observe --again`: the folder as it was when it was observed, beside the folder as it stands now."""

from __future__ import annotations

import os
import shlex
import stat
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    DEFAULT_BLOCKS,
    Arm,
    Command,
    Comparison,
    KeptState,
    Record,
    RecordHead,
    StoppingRule,
    Study,
    with_placebo,
)
from bystander.errors import ArmError, NothingEditedError, NotKeptError, UsageError
from bystander.field import (
    DEFAULT_KEPT_BYTES,
    KeptOfRecord,
    KeptStates,
    StudyFolder,
    Wanted,
    arm_words,
    is_byte_code,
    left_out_of,
)
from bystander.files import mode_at
from bystander.flow.sessions.heads import home_of, refuse_foreign
from bystander.flow.sessions.keeping import WITHOUT_ALSO, Keeping, no_files_text
from bystander.units import listed

__all__ = ["Again", "AskedAgain", "confirmed_study", "keeping_of", "observe_again_study"]

_NAMED = 4
LAST, NOW, FIRST = "last", "now", "first"


@dataclass(frozen=True)
class AskedAgain:
    """What the user asks for besides.

    Attributes
    ----------
    candidate : str or None
        The arm of the earlier record whose state is taken; its only candidate by default.
    from_first : bool
        Add the state with which the chain of observations began.
    build : tuple of str
        Build steps for all states; those of the record where it is empty.
    also : tuple of str
        Patterns of ignored files that are taken as well.
    most : int or None
        The most bytes that are kept; as much as before where it is None.
    """

    candidate: str | None = None
    from_first: bool = False
    build: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    most: int | None = None


@dataclass(frozen=True)
class Again:
    """A study, where it runs, what it keeps, what is to be said first, and the archive where that is known."""

    study: Study
    home: StudyFolder
    keeping: Keeping
    remarks: tuple[str, ...] = ()
    archive: Path | None = None


def keeping_of(asked: AskedAgain) -> Keeping:
    """Return what is kept of a folder that is observed for the first time."""
    return Keeping(asked.also, DEFAULT_KEPT_BYTES if asked.most is None else asked.most)


def observe_again_study(archive: Path, name: str | None, asked: AskedAgain) -> Again:
    """Return the study that compares the state which a record ran with the folder as it stands.

    Parameters
    ----------
    name : str, optional
        The record; the newest that was observed here by default.

    Raises
    ------
    UsageError
        When there is no such record, or it kept no state.
    ArmError
        When the folder cannot be kept as it stands.
    NothingEditedError
        When the folder is as it was.
    """
    with Archive(archive) as kept_records:
        head = kept_records.head(name) if name else _newest(kept_records.heads())
        refuse_foreign(head, "observe its command or study here first")
        if head.only_inspected:
            raise UsageError(f"record {head.name} was only inspected, and timed nothing; observe its command first")
        record = kept_records.load(head.uuid)
    home = home_of(head)
    home.keep_beside(archive)
    home.file = head.study_file
    states = KeptStates(home)
    kept = states.of(head.uuid)
    if kept is None:
        raise UsageError(f"record {head.name} kept no state of its folder; observe anew, edit, and then --again")
    arm = _candidate(head, asked.candidate)
    last = replace(_state(head, kept, arm), record=head.name)
    keeping = Keeping(tuple(dict.fromkeys((*kept.also, *asked.also))), kept.most if asked.most is None else asked.most)
    now = _now(head, home, states, arm, keeping, archive)
    if now.same_files(last) or _only_byte_code(states.differing(last, now)):
        raise NothingEditedError(_nothing_edited(head, home, arm))
    first = _first(head, kept, arm, last)
    study = _study(record, home, arm, (last, now), first if asked.from_first else None, asked.build)
    remarks = [_differing(states, last, now), *_moved(head)]
    if text := no_files_text(states.no_files):
        remarks.append(text)
    if asked.from_first and first and first.kept and first.kept.same_files(last):
        remarks.append(f"first and last are one state, the one that record {last.record} ran")
    return Again(study, home, replace(keeping, first=first), tuple(remarks), archive)


def confirmed_study(archive: Path, name: str) -> Again:
    """Return the study of a record, with every arm in the very state that it had then.

    Raises
    ------
    UsageError
        When the record is a chain, compares nothing, or did not keep its states.
    """
    with Archive(archive) as kept_records:
        head = kept_records.head(name)
    refuse_foreign(head, "observe its study here first")
    study = head.study
    if study.chain or not study.comparisons:
        instead = "bystander chain --retest tries a chain" if study.chain else "it has one arm"
        raise UsageError(f"--confirm: record {head.name} is not one pair of states: {instead}")
    home = home_of(head)
    home.keep_beside(archive)
    home.file = head.study_file
    kept = KeptStates(home).of(head.uuid)
    if kept is None:
        raise UsageError(f"--confirm: record {head.name} kept no state of what it ran; observe it anew")
    arms = []
    for arm in study.arms:
        of = study.reference if arm.placebo else arm
        state = _state(head, kept, of)
        command = arm.command if head.study_file else {k: _inside(text, home.path) for k, text in arm.command.items()}
        laid_out = _laid_out(arm, arm.name, replace(state, record=head.name))
        arms.append(replace(laid_out, command=command, weigh=arm.weigh))
    keeping = Keeping(kept.also, kept.most, kept.first)
    return Again(replace(study, arms=tuple(arms), seed=None), home, keeping, (), archive)


def _newest(heads: Sequence[RecordHead]) -> RecordHead:
    for head in reversed(heads):
        if head.observed_here and not head.only_inspected:
            return head
    raise UsageError("nothing was observed here yet; bystander observe -- COMMAND begins, then edit, then --again")


def _candidate(head: RecordHead, wanted: str | None) -> Arm:
    """Return the arm whose state is taken up: what was new then."""
    study = head.study
    arms = [arm for arm in study.arms if not arm.placebo]
    if wanted is not None:
        if found := [arm for arm in arms if arm.name == wanted]:
            return found[0]
        raise UsageError(f'--candidate: record {head.name} has no arm "{wanted}"; it has {_names(arms)}')
    candidates = list(dict.fromkeys(one.candidate for one in study.comparisons)) or [0]
    if len(candidates) > 1:
        several = [study.arms[a] for a in candidates]
        raise UsageError(f"record {head.name} has several candidates, {_names(several)}; --candidate chooses one")
    return study.arms[candidates[0]]


def _names(arms: Sequence[Arm]) -> str:
    return listed([arm.name for arm in arms], 8)


def _state(head: RecordHead, kept: KeptOfRecord, arm: Arm) -> KeptState:
    state = kept.arms.get(arm.name, "nothing was written down about it")
    if isinstance(state, str):
        raise UsageError(
            f"record {head.name} did not keep the state of the folder that {arm.name} ran in: {state}; observe it "
            "anew, then edit, and then --again"
        )
    return state


def _now(
    head: RecordHead, home: StudyFolder, states: KeptStates, arm: Arm, keeping: Keeping, archive: Path
) -> KeptState:
    """Keep and return the state of the arm's folder as it stands."""
    folder = home.path if arm.revision else (home.path / arm.folder).resolve()
    plainly = bool(head.study_file) and folder == home.path and home.git is not None
    if plainly and keeping.also:
        raise UsageError(f"--also does not apply: {WITHOUT_ALSO}")
    wanted = Wanted(arm_words(head.study, arm), keeping.also, keeping.most, left_out_of(head.study, archive), plainly)
    try:
        return states.take(folder, wanted, arm.filters)
    except NotKeptError as error:
        raise ArmError(f"the folder {folder} cannot be kept as it stands: {error}") from None


def _only_byte_code(differing: tuple[str, ...]) -> bool:
    return bool(differing) and all(map(is_byte_code, differing))


def _nothing_edited(head: RecordHead, home: StudyFolder, arm: Arm) -> str:
    text = f"nothing was edited: {home.path} stands as record {head.name} ran it"
    outside = [
        word for word in arm_words(head.study, arm)
        if word.startswith("/") and stat.S_ISREG(mode_at(Path(word))) and not Path(word).is_relative_to(home.path)
        and not os.access(word, os.X_OK)
    ]  # fmt: skip
    if outside:
        text += f" ({listed(outside, _NAMED)} lies elsewhere, and is no part of what is compared)"
    return text


def _first(head: RecordHead, kept: KeptOfRecord, arm: Arm, last: KeptState) -> Arm | None:
    """Return the arm with which the chain began: the one that was kept, a study's reference, or this very state."""
    if kept.first:
        return kept.first
    reference = head.study.reference if head.study.comparisons else arm
    state = kept.arms.get(reference.name)
    if not isinstance(state, KeptState):
        return None
    return _laid_out(reference, FIRST, last if reference == arm else replace(state, record=head.name))


def _laid_out(arm: Arm, name: str, state: KeptState, build: tuple[str, ...] = ()) -> Arm:
    """Return an arm like another one, in a state that is kept."""
    return replace(arm, name=name, in_place=False, revision=None, weigh="", kept=state, build=build or arm.build)


def _study(
    record: Record,
    home: StudyFolder,
    arm: Arm,
    states: tuple[KeptState, KeptState],
    first: Arm | None,
    build: tuple[str, ...],
) -> Study:
    study = record.head.study
    arms = [_laid_out(arm, name, state, build) for name, state in zip((LAST, NOW), states, strict=True)]
    compared: tuple[Comparison, ...] = ()
    if first and first.kept and not first.kept.same_files(states[0]):
        arms.append(replace(first, name=FIRST, build=build or first.build))
        compared = (Comparison(0, 1), Comparison(2, 1))
    if not record.head.study_file:
        study = _without_study(record, home)
        arms = [replace(one, command={k: _inside(text, home.path) for k, text in one.command.items()}) for one in arms]
    alone = not study.comparisons
    if alone:
        study = replace(study, workloads=tuple(replace(one, blocks=None) for one in study.workloads))
    planned = replace(
        study,
        arms=tuple(arms),
        compared=compared,
        seed=None,
        blocks=study.blocks if not alone or study.ceilings else DEFAULT_BLOCKS,
        stopping=StoppingRule.LOOKS if alone else study.stopping,
    )
    return with_placebo(planned) if study.control else planned


def _without_study(record: Record, home: StudyFolder) -> Study:
    """Return the study of what was given without one: named anew, its paths relative, its answers compared.

    What it prints or returns is compared where it is the same in every trial, and where it is not that is said.
    """
    study = record.head.study
    workloads = []
    for workload in study.workloads:
        what = workload.what
        if isinstance(what, Command):
            what = replace(what, template=_inside(what.template, home.path))
        told = "output" if isinstance(what, Command) else "result"
        workloads.append(replace(workload, what=what, answer=told if workload.answer in (None, told) else None))
    name = study.name.removesuffix(" now").removesuffix(" again") + " again"
    return replace(study, name=name, workloads=tuple(workloads))


def _inside(template: str, folder: Path) -> str:
    """Return a command whose absolute paths below a folder are relative to it: each state has files of its own."""
    words = shlex.split(template)
    near = [f"./{os.path.relpath(word, folder)}" if word.startswith(f"{folder}/") else word for word in words]
    return template if near == words else shlex.join(near)


def _differing(states: KeptStates, last: KeptState, now: KeptState) -> str:
    files = states.differing(last, now)
    which = f"they differ in {listed(files, _NAMED)}" if files else "which files differ cannot be told"
    return f"last is the folder as record {last.record} ran it, now is the folder as it stands; {which}"


def _moved(head: RecordHead) -> list[str]:
    """Say that what ran where it lies runs in copies now."""
    if any(arm.in_place for arm in head.study.arms):
        return [f"record {head.name} ran in the folder itself; last and now run in copies, their paths equally long"]
    return []
