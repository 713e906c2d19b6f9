"""The states of a chain: revisions, patches one on top of the other, versions, or what `observe --again` has kept."""

from __future__ import annotations

import re
import stat
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    Arm,
    Chain,
    ChainKind,
    ChainStates,
    Comparison,
    ComparisonPurpose,
    KeptState,
    Link,
    RecordHead,
    StoppingRule,
    Study,
    is_range,
    range_ends,
    with_placebo,
)
from bystander.errors import ArmError, DataError, NotAppliedError, UsageError
from bystander.field import DEFAULT_KEPT_BYTES, Edits, KeptStates, StudyFolder, Wanted, arm_words, left_out_of
from bystander.files import mode_at, read_at_most

__all__ = ["MOST_STATES", "State", "as_chain", "chain_of", "linked", "range_commits", "states_of"]

MOST_STATES = 1000
_PATCHES = (".patch", ".diff")
_MOST_BYTES = 64 * 2**20
_SUBJECT = re.compile(r"^Subject: (?:\[[^]]*\] )?(.+)$", re.MULTILINE)
_UNFIT = re.compile(r"[^A-Za-z0-9 .+_-]+")


@dataclass(frozen=True)
class State:
    """A state of a chain: the arm that it is, and what the edit that leads to it says of itself."""

    arm: Arm
    subject: str = ""


def chain_of(study: Study, home: StudyFolder, archive: Path | None = None) -> Study:
    """Return a study whose arms are the states that its `[chain]` names; others as they are.

    Raises
    ------
    UsageError
        When there are fewer than two states, or too many.
    ArmError, DataError
        When git does not know them, or a patch does not apply.
    """
    if study.states is None or study.chain is not None:
        return study
    states = list(states_of(study, home, archive))
    if len(states) < 2:
        raise UsageError("a chain has two states or more, and this one has no second one")
    if len(states) > MOST_STATES:
        raise UsageError(
            f"{len(states)} states are more than a chain can have ({MOST_STATES}); bystander bisect finds one"
        )
    return as_chain(study, states, _said(study.states))


def _said(asked: ChainStates) -> str:
    """Return what was asked for, in short."""
    if asked.revisions:
        return asked.revisions[0] if len(asked.revisions) == 1 else f"{asked.revisions[0]}, ..., {asked.revisions[-1]}"
    if asked.versions:
        return f"versions {asked.versions[0]} to {asked.versions[-1]}"
    return f"patches in {asked.patches}" if asked.patches else "what observe --again kept"


def as_chain(study: Study, states: Sequence[State], what: str) -> Study:
    """Return a study in which each state is held against the one before it, and the last against the first.

    The number of blocks is fixed: with looks links would stop one by one, and each would be in blocks of its own.
    """
    links = tuple(Link(state.arm.name, before.arm.name, state.subject) for before, state in pairwise(states))
    arms = tuple(state.arm for state in states)
    made = linked(replace(study, arms=arms, compared=()), Chain(ChainKind.LINKS, links, what))
    return with_placebo(made) if study.control is not None else made


def linked(study: Study, chain: Chain) -> Study:
    """Return a study whose arms stand in a chain, with the comparisons that follow from it."""
    places = {arm.name: place for place, arm in enumerate(study.arms)}
    links = [Comparison(places[link.since], places[link.arm]) for link in chain.links]
    compared = list(links)
    if chain.kind.climbs:
        compared.append(Comparison(0, links[-1].candidate))
    elif chain.kind is ChainKind.PIECES:
        compared.append(Comparison(0, 1))
    compared += [Comparison(0, places[arm.name], ComparisonPurpose.CONTROL) for arm in study.arms if arm.placebo]
    return replace(study, chain=chain, compared=tuple(dict.fromkeys(compared)), stopping=StoppingRule.FIXED)


def states_of(study: Study, home: StudyFolder, archive: Path | None) -> Iterator[State]:
    """Yield the states in their order, each made like the study's one arm."""
    asked, arm = study.states, study.arms[0]
    assert asked
    if asked.revisions:
        yield from _revisions(asked, arm, home)
    elif asked.patches:
        yield from _patched(asked.patches, study, arm, home)
    elif asked.versions:
        base = _base(study, arm, home)
        for version in asked.versions:
            settings = {**arm.settings, "version": version}
            yield State(replace(base, name=_name(version), settings=settings), f"version {version}")
    else:
        yield from _again(arm, home, archive)


def _name(text: str) -> str:
    """Return a text as the name of an arm."""
    return _UNFIT.sub("-", text).strip("-. ") or "state"


def range_commits(what: str, home: StudyFolder, every: bool) -> tuple[tuple[str, str, str], ...]:
    """Return the commits of a range, the first one too: id, short id and subject.

    Raises
    ------
    UsageError
        When it is no range, an end is not there, or the first is no ancestor of the last.
    """
    git = home.git
    if git is None:
        raise UsageError(f"{home.path} lies in no git repository, so there are no commits to follow")
    try:
        ends = range_ends(what)
    except ValueError as error:
        raise UsageError(str(error)) from None
    for end in ends:
        if problem := home.revision_problem(end):
            raise UsageError(problem)
    first, last = map(git.commit, ends)
    if not git.is_ancestor(first, last):
        raise UsageError(
            f"{ends[0]} is no ancestor of {ends[1]}, so that no line of commits leads from one to the other; "
            f"git merge-base {ends[0]} {ends[1]} names where they part"
        )
    return git.commits(first, last, every)


def _revisions(asked: ChainStates, arm: Arm, home: StudyFolder) -> Iterator[State]:
    if len(asked.revisions) > 1 or not is_range(asked.revisions[0]):
        git = home.git
        assert git  # else the revisions were refused where they were read
        commits = tuple(git.commits(git.commit(one), git.commit(one))[0] for one in asked.revisions)
    else:
        commits = range_commits(asked.revisions[0], home, asked.every)
    for _, short, subject in commits:
        yield State(replace(arm, name=short, revision=short, folder=".", in_place=False), subject)


def _base(study: Study, arm: Arm, home: StudyFolder) -> Arm:
    """Return an arm whose files do not lie where the user edits them, so that every state has its own."""
    if arm.revision is not None:
        return arm
    folder = (home.path / arm.folder).resolve()
    wanted = Wanted(
        arm_words(study, arm), (), DEFAULT_KEPT_BYTES, left_out_of(study, None), plainly=home.git is not None
    )
    state = KeptStates(home).take(folder, wanted, arm.filters)
    return replace(arm, kept=state, in_place=False)


def _patched(folder: str, study: Study, arm: Arm, home: StudyFolder) -> Iterator[State]:
    """Yield the state before all patches, then each."""
    files = sorted(file for file in (home.path / folder).iterdir() if file.suffix in _PATCHES)
    if not files:
        raise UsageError(f'chain.patches: "{folder}" holds no file that ends in .patch or .diff')
    base = _base(study, arm, home)
    state = base.kept
    if state is None:
        git = home.git
        assert git
        inside = str(home.path.relative_to(git.top.resolve())).removeprefix(".")
        state = KeptState("tree", git.tree_of(git.commit(base.revision or "HEAD")), inside)
    yield State(replace(base, name="start", revision=None, kept=state), "before all patches")
    edits, names = Edits(home), {"start"}
    for file in files:
        text = _patch_in(file)
        try:
            state = replace(edits.applied(state, text), record="", made=f"{folder} up to {file.name}")
        except NotAppliedError as error:
            raise ArmError(f"{folder}/{file.name} does not apply to the state before it: {error}") from None
        name = _name(file.stem)
        while name in names:
            name += "+"
        names.add(name)
        found = _SUBJECT.search(text)
        yield State(replace(base, name=name, revision=None, kept=state), found[1].strip() if found else file.stem)


def _patch_in(file: Path) -> str:
    if not stat.S_ISREG(mode_at(file)):
        raise DataError(f"{file}: it is no file")
    data = read_at_most(file, _MOST_BYTES)
    if data is None:
        raise DataError(f"{file}: it is too large for a patch")
    return data.decode("utf-8", "surrogateescape")


def _again(arm: Arm, home: StudyFolder, archive: Path | None) -> Iterator[State]:
    """Yield the states that records of `observe --again` have kept, from the first on, each once."""
    heads = _heads_here(archive, home)
    states, before, seen = KeptStates(home), None, set()
    for head in heads:
        kept = states.of(head.uuid)
        if kept is None:
            continue
        for one in head.study.arms:
            state = kept.arms.get(one.name)
            if one.placebo or not isinstance(state, KeptState) or (state.how, state.digest) in seen:
                continue
            if one.kept is None and (one.revision or head.study.links):
                continue  # an arm of a study, no state of the folder
            seen.add((state.how, state.digest))
            number = len(seen)
            what = f"as record {head.name} ran it"
            differ = states.differing(before, state) if before else ()
            subject = f"{what}: {', '.join(differ[:3])}" if differ else what
            yield State(replace(arm, name=f"state {number}", revision=None, in_place=False, kept=state), subject)
            before = state


def _heads_here(archive: Path | None, home: StudyFolder) -> list[RecordHead]:
    if archive is None or not archive.exists():
        raise UsageError("nothing was observed here yet, so that observe --again has kept no states")
    with Archive(archive) as kept:
        heads = kept.heads()
    return [head for head in heads if head.observed_here and Path(head.study_folder) == home.path]
