"""What goes on from a chain: one more link, kept gains tried again, and the pieces of one edit apart."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from bystander.design import (
    DROPPED,
    KEPT,
    Arm,
    Chain,
    ChainKind,
    EditSize,
    FilePatch,
    KeptState,
    Link,
    RecordHead,
    Study,
    edit_size,
    patch_text,
    read_patch,
)
from bystander.errors import NotAppliedError, NothingEditedError, UsageError
from bystander.field import DEFAULT_KEPT_BYTES, Edits, KeptStates, StudyFolder, Wanted, arm_words, left_out_of
from bystander.flow.chains.diary import rung_named
from bystander.flow.chains.making import is_own_file
from bystander.flow.chains.states import linked
from bystander.flow.observer import Observer
from bystander.units import counted, listed
from bystander.verdicts import Ladder, Rung

__all__ = ["MOST_PIECES", "Whence", "added_study", "again_study", "last_kept", "pairs_study", "pieces_study",
           "rung_ends"]  # fmt: skip

MOST_PIECES = 24
_NAMED = 4


@dataclass(frozen=True)
class Whence:
    """A chain that is gone on with: its ladder, the heads of its records, and where its states are kept.

    Attributes
    ----------
    taken : frozenset of str
        Names of states, also of links that were not finished: they may be yet.
    """

    made: Ladder
    heads: tuple[RecordHead, ...]
    home: StudyFolder
    taken: frozenset[str]

    @property
    def head(self) -> RecordHead:
        """Of the record that the chain began with."""
        return self.heads[0]

    def head_of(self, rung: Rung) -> RecordHead:
        """Return the head of the record that measured a rung."""
        return next(head for head in self.heads if head.name == rung.record)

    def arm_of(self, head: RecordHead, name: str, as_name: str | None = None) -> Arm:
        """Return an arm of a record in the state that it had, to be laid out again.

        Raises
        ------
        UsageError
            When its files were not kept.
        """
        arm = next(arm for arm in head.study.arms if arm.name == name)
        state = _state(self.home, head, name)
        return replace(arm, name=as_name or name, revision=None, in_place=False, kept=replace(state, record=head.name))


def _state(home: StudyFolder, head: RecordHead, name: str) -> KeptState:
    kept = KeptStates(home).of(head.uuid)
    state = kept.arms.get(name) if kept else None
    if not isinstance(state, KeptState):
        why = f": {state}" if state else ""
        raise UsageError(f"record {head.name} did not keep the files of {name}{why}; observe the chain anew")
    return state


def _planned(whence: Whence, arms: Sequence[Arm], chain: Chain) -> Study:
    """Return the study of the chain with other arms; what it asked for stays."""
    study = replace(whence.head.study, arms=tuple(arms), compared=(), states=None, seed=None)
    return linked(study, chain)


def last_kept(whence: Whence) -> Rung | None:
    """Return the rung of the last edit that was kept; of a chain without a diary, the last that was not dropped."""
    rungs = whence.made.rungs
    kept = [rung for rung in rungs if rung.fate == KEPT]
    if kept:
        return kept[-1]
    return next((rung for rung in reversed(rungs) if rung.fate != DROPPED), None)


def added_study(whence: Whence, subject: str = "") -> Study:
    """Return the study that tries the working tree as one more link, behind the last one that was kept.

    Raises
    ------
    NothingEditedError
        When the folder stands as that one.
    """
    study, home = whence.head.study, whence.home
    first = whence.arm_of(whence.head, whence.made.first_name)
    rung = last_kept(whence)
    since = whence.arm_of(whence.head_of(rung), rung.link.arm) if rung else first
    template = replace(since, kept=None)
    folder = (home.path / template.folder).resolve()
    words = arm_words(study, template)
    plainly = home.git is not None and folder == home.path
    wanted = Wanted(words, (), DEFAULT_KEPT_BYTES, left_out_of(study, None), plainly)
    now = KeptStates(home).take(folder, wanted, template.filters)
    assert since.kept
    differ = [one for one in KeptStates(home).differing(since.kept, now) if not _own(one, whence.head)]
    if not differ:
        raise NothingEditedError(f"nothing was edited: {home.path} stands as {since.name}, the last that was kept")
    number = next(n for n in range(1, len(whence.taken) + 2) if f"added {n}" not in whence.taken)
    name = f"added {number}"
    said = subject or f"edit of {listed(differ, _NAMED)}"
    arms = [first, *([since] if since.name != first.name else []), replace(template, name=name, kept=now)]
    link = Link(name, since.name, said)
    return _planned(whence, arms, Chain(ChainKind.ADDED, (link,), f"{name} on {since.name}", whence.head.uuid))


def _own(file: str, head: RecordHead) -> bool:
    """Whether a file is the study, or the diary beside it, and no edit of the program."""
    return is_own_file(file, head.study_file)


def again_study(whence: Whence, observer: Observer) -> Study:
    """Return the study in which each kept gain is taken back from the newest state, by itself.

    What its patch does not come off any more is tried as it was then: the state before it against the one after.

    Raises
    ------
    UsageError
        When nothing was kept, or nothing that was kept gained.
    """
    better = whence.made.measure.words[1]
    kept = [rung for rung in whence.made.rungs if rung.fate == KEPT and any(row.verdict == better for row in rung.rows)]
    if not kept:
        raise UsageError('no gain was kept yet; bystander settle LINK kept --because "..." keeps one')
    newest = last_kept(whence)
    assert newest
    now = whence.arm_of(whence.head_of(newest), newest.link.arm, "now")
    edits, arms, links = Edits(whence.home), [now], []
    for rung in kept:
        head, name = whence.head_of(rung), rung.link.arm
        before, after = (_state(whence.home, head, one) for one in (rung.link.since, name))
        link = replace(rung.link, label=name, joined=())
        assert now.kept
        try:
            without = edits.applied(now.kept, edits.patch(after, before))
            made = f"{newest.link.name} without {name}"
            arms.append(replace(now, name=f"without {name}", kept=replace(without, record="", made=made)))
            links.append(replace(link, arm="now", since=f"without {name}"))
        except NotAppliedError:
            observer.remark(f"{name} does not come off the newest state any more: it is tried as it was then.")
            for one in (rung.link.since, name):
                if all(arm.name != f"{one} then" for arm in arms):
                    arms.append(whence.arm_of(head, one, f"{one} then"))
            links.append(replace(link, arm=f"{name} then", since=f"{rung.link.since} then"))
    return _planned(whence, arms, Chain(ChainKind.AGAIN, tuple(links), "kept gains, tried again", whence.head.uuid))


def pieces_study(
    head: RecordHead, home: StudyFolder, ends: tuple[str, str], by_file: bool, observer: Observer
) -> Study:
    """Return the study in which each piece of an edit is tried alone, and taken from all the others.

    Parameters
    ----------
    ends : (str, str)
        The arms before and after the edit.
    by_file : bool
        Pieces are files, rather than hunks.

    Raises
    ------
    UsageError
        When there is one piece only, or more than can be tried.
    """
    states = [_state(home, head, name) for name in ends]
    arm = next(arm for arm in head.study.arms if arm.name == ends[1])
    edits = Edits(home)
    files = read_patch(edits.patch(states[0], states[1]))
    pieces = list(_pieces(files, by_file))
    word = "file" if by_file else "hunk"
    if len(pieces) < 2:
        raise UsageError(f"from {ends[0]} to {ends[1]} it is {counted(len(pieces), word)}: there is nothing to split")
    if len(pieces) > MOST_PIECES:
        more = "" if by_file else "; --by file has fewer pieces"
        raise UsageError(
            f"from {ends[0]} to {ends[1]} it is {len(pieces)} {word}s, and {MOST_PIECES} can be tried{more}"
        )
    before, after = (
        replace(arm, name=name, revision=None, in_place=False, kept=replace(state, record=head.name))
        for name, state in zip(("before", "after"), states, strict=True)
    )
    arms, links, known = [before, after], list[Link](), {states[0].digest: "before", states[1].digest: "after"}
    for number, piece in enumerate(pieces, 1):
        others = [one for one in pieces if one is not piece]
        for how, taken in (("alone", [piece]), ("last", others)):
            try:
                state = edits.applied(states[0], _patch_of(files, taken))
            except NotAppliedError as error:
                observer.remark(f"piece {number}, {piece.subject}, does not apply {_ALONE[how]}: {error}.")
                continue
            name = known.setdefault(state.digest, f"piece {number}" if how == "alone" else f"without {number}")
            if all(one.name != name for one in arms):
                made = f"{ends[0]} with {piece.subject}" if how == "alone" else f"{ends[1]} without {piece.subject}"
                arms.append(replace(after, name=name, kept=replace(state, record="", made=made)))
            arm_name, since = (name, "before") if how == "alone" else ("after", name)
            if arm_name != since:
                links.append(Link(arm_name, since, piece.subject, piece.size, label=f"{number} {how}"))
    if not links:
        raise UsageError(f"no piece of the edit from {ends[0]} to {ends[1]} applies by itself")
    study = replace(head.study, arms=tuple(arms), compared=(), states=None, seed=None)
    what = f"{ends[0]} to {ends[1]}, {counted(len(pieces), word)}"
    return linked(study, Chain(ChainKind.PIECES, tuple(links), what, head.uuid))


def pairs_study(made: Ladder, head: RecordHead, home: StudyFolder, observer: Observer) -> Study:
    """Return the study that tries the pieces which do not add up, each on top of every other one by itself.

    Raises
    ------
    UsageError
        When all pieces add up, as far as is shown.
    """
    apart = list(dict.fromkeys(one.piece for one in made.disagree))
    if not apart:
        raise UsageError(f"record {head.name}: no piece is shown to gain otherwise alone than on top of the others")
    labels = {rung.link.name: rung.link for rung in made.rungs}
    alone = {name.removesuffix(" alone"): link for name, link in labels.items() if name.endswith(" alone")}
    edits, base = Edits(home), _state(home, head, "before")
    arms = [arm for arm in head.study.arms if arm.name in ("before", "after")]
    arms = [replace(arm, kept=_state(home, head, arm.name)) for arm in arms]
    links: list[Link] = []

    def with_arm(name: str, state: KeptState) -> str:
        if all(arm.name != name for arm in arms):
            arms.append(replace(arms[1], name=name, kept=state))
        return name

    states = {piece: _state(home, head, link.arm) for piece, link in alone.items()}
    for piece in (one for one in apart if one in alone):
        links.append(replace(alone[piece], arm=with_arm(f"piece {piece}", states[piece])))
        patch = edits.patch(base, states[piece])
        for other in (one for one in alone if one != piece):
            try:
                both = edits.applied(states[other], patch)
            except NotAppliedError:
                observer.remark(f"piece {piece} does not apply on top of piece {other} alone.")
                continue
            since = with_arm(f"piece {other}", states[other])
            name = with_arm(f"pieces {' and '.join(sorted((piece, other), key=int))}", both)
            links.append(replace(alone[piece], arm=name, since=since, label=f"{piece} after {other}"))
    study = replace(head.study, arms=tuple(arms), compared=(), states=None, seed=None)
    return linked(study, Chain(ChainKind.PIECES, tuple(links), f"pairs of pieces of {head.name}", head.uuid))


_ALONE = {"alone": "by itself", "last": "without the others coming apart"}


@dataclass(frozen=True)
class _Piece:
    """A hunk, or a whole file: positions of the file and of its hunks."""

    file: int
    hunks: tuple[int, ...]
    subject: str
    size: EditSize


def _pieces(files: Sequence[FilePatch], by_file: bool) -> Iterator[_Piece]:
    for place, one in enumerate(files):
        every = tuple(range(one.pieces))
        if by_file or not one.hunks:
            yield _Piece(place, every, one.path, edit_size([one]))
            continue
        for hunk in every:
            yield _Piece(place, (hunk,), one.where(hunk), edit_size([replace(one, hunks=(one.hunks[hunk],))]))


def _patch_of(files: Sequence[FilePatch], pieces: Sequence[_Piece]) -> str:
    taken: dict[int, list[int]] = {}
    for piece in pieces:
        taken.setdefault(piece.file, []).extend(piece.hunks)
    return patch_text((files[place], hunks) for place, hunks in sorted(taken.items()))


def rung_ends(made: Ladder, text: str) -> tuple[str, str]:
    """Return the states before and after an edit."""
    rung = rung_named(made, text)
    return rung.link.since, rung.link.arm
