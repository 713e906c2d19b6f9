"""`bystander chain`: the states of a chain are observed in the same blocks, and what goes on from one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    DEFAULT_BLOCKS,
    ONE_ARM_STUDY_BLOCKS,
    Arm,
    ChainKind,
    ChainStates,
    RecordHead,
    Study,
    with_only,
    with_placebo,
)
from bystander.errors import UsageError
from bystander.field import MachineLock, StudyFolder
from bystander.flow.chains.bisected import found_pairs
from bystander.flow.chains.diary import rung_named
from bystander.flow.chains.ladders import CLIMBING, chain_records, laddered
from bystander.flow.chains.more import Whence, added_study, again_study, pairs_study, pieces_study
from bystander.flow.chains.seen import foreseen_links
from bystander.flow.chains.states import chain_of
from bystander.flow.commands.observe import Observed, observe
from bystander.flow.observer import Observer
from bystander.flow.onward.asked import AskedChain, GoOn
from bystander.flow.sessions.earlier_noise import earlier_noise
from bystander.flow.sessions.heads import home_of, refuse_foreign

__all__ = ["chain_study", "gone_on", "observe_chain", "template_arm"]


def chain_study(study: Study, home: StudyFolder, what: str, asked: AskedChain, archive: Path | None = None) -> Study:
    """Return the study whose arms are the revisions of a range.

    Raises
    ------
    UsageError
        When there are fewer than two, or the study's arms are made differently and none is chosen.
    """
    one = replace(template_arm(study, asked.arm), name="state", revision=None, folder=".", kept=None)
    states = ChainStates(revisions=(what,), every=asked.every)
    made = chain_of(planned(replace(study, arms=(one,), compared=(), states=states), asked), home, archive)
    return with_placebo(made) if study.control is not None else made


def template_arm(study: Study, name: str | None) -> Arm:
    """Return the arm like which every state is made: the one that is named, or any where all are made alike."""
    arms = [arm for arm in study.arms if not arm.placebo]
    if name is not None:
        for arm in arms:
            if arm.name == name:
                return arm
        raise UsageError(f'--arm: the study has no arm "{name}"; it has {", ".join(arm.name for arm in arms)}')
    bare = [replace(arm, name="", revision=None, folder=".", kept=None) for arm in arms]
    if any(arm != bare[0] for arm in bare):
        names = " or ".join(arm.name for arm in arms)
        raise UsageError(f"the study's arms are not made alike; --arm {names} says like which the states are made")
    return arms[-1]


def planned(study: Study, asked: AskedChain) -> Study:
    """Return a study with what is asked for besides its states."""
    study = with_only(study, asked.only)
    blocks = asked.blocks
    if not blocks and study.blocks == ONE_ARM_STUDY_BLOCKS:  # what a study of one arm has where it says nothing
        blocks = DEFAULT_BLOCKS
    if blocks:
        study = replace(study, blocks=blocks, workloads=tuple(replace(one, blocks=None) for one in study.workloads))
    return study if asked.seed is None else replace(study, seed=asked.seed)


def observe_chain(
    study: Study,
    home: StudyFolder,
    archive: Path,
    caller: Mapping[str, str],
    observer: Observer,
    asked: AskedChain,
    wait: bool = False,
) -> Observed:
    """Run the trials of a chain into a new record; what could not be seen is refused first.

    Raises
    ------
    UsageError
        With what would do, when so many blocks could not show the gain that is asked for.
    ArmError
        When fewer than two states can be built.
    """
    noises = earlier_noise(study, archive, asked.noise_of)[1] if asked.noise_of else ()
    study = with_placebo(study) if asked.placebo else study
    if study.chain:
        study = replace(study, chain=replace(study.chain, change=asked.change))
    return observe(
        study, home, archive, caller, observer, wait=wait, foresee=foreseen_links(asked.change, noises, asked.refuse),
    )  # fmt: skip


def gone_on(
    archive: Path, name: str | None, way: GoOn, asked: AskedChain, caller: Mapping[str, str], observer: Observer,
    wait: bool = False,
) -> Observed:  # fmt: skip
    """Run what goes on from a chain, the newest by default, into a record of its own that names it."""
    if wait:  # another one may add to the very chain: it is gone on with as it is then
        with MachineLock("what goes on from a chain", waiting=observer.remark):
            pass
    study, home, head = _goes_on_with(archive, name, way, observer)
    if asked.change is None and head.study.chain:
        asked = replace(asked, change=head.study.chain.change)
    return observe_chain(planned(study, asked), home, archive, caller, observer, asked, wait)


def _goes_on_with(
    archive: Path, name: str | None, way: GoOn, observer: Observer
) -> tuple[Study, StudyFolder, RecordHead]:
    """Return the study that is observed, where its states are kept, and the head of the record it goes on with."""
    if way.hunks is not None and name is not None:
        with Archive(archive) as kept:
            head = kept.head(name)
            steps = found_pairs(kept, head) if head.is_search else ()
        if head.study.chain is None:  # an ordinary record, or a search
            home = _home(head, archive)
            return pieces_study(head, home, _pair(head, way.hunks, steps), way.by_file, observer), home, head
    kinds = (ChainKind.PIECES,) if way.pairs else CLIMBING
    records = chain_records(archive, name, kinds)
    made, heads = laddered(records, archive), tuple(one.head for one in records)
    home = _home(heads[0], archive)
    whence = Whence(made, heads, home, _names(archive, heads[0]))
    if way.hunks is not None:
        rung = rung_named(made, way.hunks)
        ends = rung.link.since, rung.link.arm
        return pieces_study(whence.head_of(rung), home, ends, way.by_file, observer), home, heads[0]
    if way.pairs:
        return pairs_study(made, heads[0], home, observer), home, heads[0]
    study = again_study(whence, observer) if way.again else added_study(whence, way.subject)
    return study, home, heads[0]


def _names(archive: Path, first: RecordHead) -> frozenset[str]:
    """Return the names of all states of a chain, and of what goes on from it."""
    with Archive(archive) as kept:
        mine = [one for one in kept.heads() if first.uuid in (one.uuid, one.study.chain and one.study.chain.of)]
    return frozenset(arm.name for one in mine for arm in one.study.arms)


def _home(head: RecordHead, archive: Path) -> StudyFolder:
    refuse_foreign(head, "observe its study here first, after reading it")
    home = home_of(head)
    home.keep_beside(archive)
    home.file = head.study_file
    return home


def _pair(head: RecordHead, name: str, steps: Sequence[tuple[int, int, int]]) -> tuple[str, str]:
    """Return the arms before and after: those of a step that was found, or of the comparison with that candidate."""
    arms = [arm.name for arm in head.study.arms]
    found = {arms[commit]: arms[parent] for _, parent, commit in steps}
    pairs = found or {after: before for before, after in map(head.study.names, head.study.comparisons)}
    if name in pairs:
        return pairs[name], name
    what = "search found no step" if found else "record has no candidate"
    raise UsageError(f'--hunks: {head.name}: the {what} "{name}"; it has {", ".join(pairs) or "none"}')
