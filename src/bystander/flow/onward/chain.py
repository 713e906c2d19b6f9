"""`bystander chain`: the states of a chain are observed in the same blocks; its ladder is shown and written."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    DEFAULT_BLOCKS,
    ONE_ARM_STUDY_BLOCKS,
    Arm,
    ChainKind,
    ChainStates,
    Record,
    RecordHead,
    SettledLink,
    Study,
    redacted,
    with_only,
    with_placebo,
)
from bystander.errors import UsageError
from bystander.exchange import ladder_csv, ladder_json
from bystander.field import StudyFolder
from bystander.files import write_whole
from bystander.flow.chains.diary import AskedLink, fated, rung_named, settle_link
from bystander.flow.chains.more import Whence, added_study, again_study, pairs_study, pieces_study
from bystander.flow.chains.seen import foreseen_links
from bystander.flow.chains.states import chain_of
from bystander.flow.commands.observe import Observed, observe
from bystander.flow.observer import Observer
from bystander.flow.sessions.earlier_noise import earlier_noise
from bystander.flow.sessions.heads import home_of, refuse_foreign
from bystander.report import PICTURE_SUFFIXES, ladder_markdown, ladder_page, ladder_picture
from bystander.units import either
from bystander.verdicts import Ladder, ladder

__all__ = [
    "LADDER_FORMATS",
    "AskedChain",
    "GoOn",
    "chain_ladder",
    "chain_records",
    "chain_study",
    "gone_on",
    "ladder_document",
    "laddered",
    "observe_chain",
    "refuse_ladder_targets",
    "settle",
    "write_ladders",
]


_CLIMBING = (ChainKind.LINKS, ChainKind.ADDED)


@dataclass(frozen=True)
class AskedChain:
    """What is asked of a chain besides its states.

    Attributes
    ----------
    arm : str or None
        The arm of the study like which states are made, where its arms are not made alike.
    only : sequence of str
        Workloads.
    blocks, seed : int or None
        Instead of the study's.
    change : float or None
        The smallest gain that is asked for, as a share; by default that of the chain which is gone on with, else the
        margin.
    noise_of : str or None
        Take the noise from this record, and try no blocks.
    every : bool
        All commits of a range, rather than first parents only.
    placebo : bool
    """

    arm: str | None = None
    only: Sequence[str] = ()
    blocks: int | None = None
    seed: int | None = None
    change: float | None = None
    noise_of: str | None = None
    every: bool = False
    placebo: bool = False


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
        study, home, archive, caller, observer, wait=wait, foresee=foreseen_links(asked.change, noises),
    )  # fmt: skip


@dataclass(frozen=True)
class GoOn:
    """How a chain is gone on with; one of them.

    Attributes
    ----------
    add, again, pairs : bool
        One more link; kept gains once more; pieces that do not add up, in pairs.
    hunks : str or None
        The edit that is taken apart.
    by_file : bool
        Into files, rather than hunks.
    subject : str
        What is said of an edit that is added.
    """

    add: bool = False
    again: bool = False
    pairs: bool = False
    hunks: str | None = None
    by_file: bool = False
    subject: str = ""

    def __bool__(self) -> bool:
        """Whether anything is asked for."""
        return self.add or self.again or self.pairs or self.hunks is not None


def gone_on(
    archive: Path, name: str | None, way: GoOn, asked: AskedChain, caller: Mapping[str, str], observer: Observer,
    wait: bool = False,
) -> Observed:  # fmt: skip
    """Run what goes on from a chain, the newest by default, into a record of its own that names it."""
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
        if head.study.chain is None:  # an ordinary record: its candidate against its reference
            home = _home(head, archive)
            return pieces_study(head, home, _pair(head, way.hunks), way.by_file, observer), home, head
    kinds = (ChainKind.PIECES,) if way.pairs else _CLIMBING
    records = chain_records(archive, name, kinds)
    made, heads = laddered(records, archive), tuple(one.head for one in records)
    home = _home(heads[0], archive)
    whence = Whence(made, heads, home)
    if way.hunks is not None:
        rung = rung_named(made, way.hunks)
        ends = rung.link.since, rung.link.arm
        return pieces_study(whence.head_of(rung), home, ends, way.by_file, observer), home, heads[0]
    if way.pairs:
        return pairs_study(made, heads[0], home, observer), home, heads[0]
    study = again_study(whence, observer) if way.again else added_study(whence, way.subject)
    return study, home, heads[0]


def _home(head: RecordHead, archive: Path) -> StudyFolder:
    refuse_foreign(head, "observe its study here first, after reading it")
    home = home_of(head)
    home.keep_beside(archive)
    home.file = head.study_file
    return home


def _pair(head: RecordHead, name: str) -> tuple[str, str]:
    """Return the arms before and after: those of the comparison whose candidate has that name."""
    study = head.study
    for comparison in study.comparisons:
        if study.names(comparison)[1] == name:
            return study.names(comparison)
    names = ", ".join(study.names(one)[1] for one in study.comparisons) or "none"
    raise UsageError(f'--hunks: record {head.name} has no candidate "{name}"; it has {names}')


def chain_records(archive: Path, name: str | None = None, kinds: Sequence[ChainKind] = ()) -> list[Record]:
    """Return the record of a chain, the newest by default, and behind it those that added a link to it.

    Parameters
    ----------
    kinds : sequence of ChainKind
        Take the newest of these only.

    Raises
    ------
    UsageError
        When no record is a chain.
    """
    with Archive(archive) as kept:
        heads = kept.heads()
        head = _begun_by(kept.head(name), heads) if name else _newest(heads, kinds)
        return [kept.load(one.uuid) for one in (head, *(one for one in heads if _goes_on(one, head)))]


def chain_ladder(archive: Path, name: str | None = None, only: Sequence[str] = (), redact: bool = False) -> Ladder:
    """Return the ladder of a record, the newest chain by default, with what became of each edit. Nothing is run."""
    return laddered(chain_records(archive, name, _CLIMBING), archive, only, redact)


def laddered(records: Sequence[Record], archive: Path, only: Sequence[str] = (), redact: bool = False) -> Ladder:
    """Return the ladder of a record with the links that later ones added to it."""
    first, *more = [ladder(redacted(one) if redact else one, only) for one in records]
    rungs = list(first.rungs)
    for one in more:  # the total is that of the newest, which has the first state in its blocks too
        rungs += [replace(rung, number=len(rungs) + i) for i, rung in enumerate(one.rungs, 1)]
        first = replace(first, total=one.total, total_load=one.total_load, total_mean=one.total_mean)
    return fated(replace(first, rungs=tuple(rungs)), [one.head for one in records], archive, redact)


def settle(archive: Path, asked: AskedLink, record: str | None, today: date) -> tuple[Path, SettledLink]:
    """Settle what became of an edit of a chain, the newest by default."""
    records = chain_records(archive, record, _CLIMBING)
    return settle_link(laddered(records, archive), [one.head for one in records], archive, asked, today)


def _newest(heads: Sequence[RecordHead], kinds: Sequence[ChainKind] = ()) -> RecordHead:
    """Return the newest chain, of some kinds where they are given."""
    for head in reversed(heads):
        if head.study.chain is not None and (not kinds or head.study.chain.kind in kinds):
            return _begun_by(head, heads)
    if ChainKind.PIECES in kinds:
        raise UsageError("no edit was taken apart yet; bystander chain --hunks LINK does it")
    raise UsageError("there is no chain yet; bystander chain v1..v9 observes one, with revisions of yours")


def _begun_by(head: RecordHead, heads: Sequence[RecordHead]) -> RecordHead:
    """Return the record that a chain began with: of a link that was added, the one that it goes on with."""
    chain = head.study.chain
    if chain is None or chain.kind is not ChainKind.ADDED:
        return head
    return next((one for one in heads if one.uuid == chain.of and one.study.chain), head)


def _goes_on(head: RecordHead, first: RecordHead) -> bool:
    """Whether a record added a link to a chain."""
    chain = head.study.chain
    return chain is not None and chain.kind is ChainKind.ADDED and chain.of == first.uuid and head.complete


Writer = Callable[[Ladder], str | bytes]


def _picture(suffix: str) -> Writer:
    return lambda made: ladder_picture(made, suffix)


LADDER_FORMATS: dict[str, Writer] = {
    ".html": ladder_page,
    ".md": ladder_markdown,
    ".json": ladder_json,
    ".csv": ladder_csv,
    **{suffix: _picture(suffix) for suffix in PICTURE_SUFFIXES},
}


def refuse_ladder_targets(targets: Sequence[Path]) -> None:
    """Raise UsageError when a file's name does not tell its kind, or its folder is missing."""
    for target in targets:
        if target.suffix.lower() not in LADDER_FORMATS:
            raise UsageError(f'--to: "{target.name}" does not tell its kind; end it in {either(LADDER_FORMATS)}')
        if targets.count(target) > 1:
            raise UsageError(f"--to: {target} is named twice")
        if target.is_dir():
            raise UsageError(f"--to: {target} is a folder; name a file")
        if target.exists() and not target.is_file():
            raise UsageError(f"--to: {target} is a pipe or a device, and would be replaced; name a file")
        if not target.absolute().parent.is_dir():
            raise UsageError(f"--to: there is no folder {target.absolute().parent}; make it first")


def write_ladders(made: Ladder, targets: Sequence[Path]) -> None:
    """Write a ladder, each file whole or not at all."""
    for target in targets:
        write_whole(target, LADDER_FORMATS[target.suffix.lower()](made))


def ladder_document(made: Ladder) -> str:
    """Return a ladder as the JSON document whose schema is in docs/ladder.schema.json."""
    return ladder_json(made)
