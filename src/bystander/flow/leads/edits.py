"""What was edited between two arms, as far as trials came by it: their code is read where it lies."""

from __future__ import annotations

from collections.abc import Iterable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from bystander.design import (
    PYTHON,
    Account,
    ArmState,
    Edits,
    Hunk,
    KeptState,
    Place,
    RecordHead,
    Run,
    Standing,
    short_file,
)
from bystander.errors import ArmError
from bystander.evidence import edits_of, functions_of, hunk_of, installed_in
from bystander.field import Git, KeptStates, StudyFolder, package_release, source_text
from bystander.flow.leads.kept import Kept

__all__ = ["edits_between", "moved_on", "source_now", "with_edits", "with_hunks"]

_MOST_SUBJECTS = 20
_OWN = ".bystander"
_MOST_LINES, _MOST_HUNKS = 40, 200  # of an edit that are told with its lead; functions of which it is kept


def edits_between(kept: Kept, arms: tuple[ArmState, ArmState], git: Git | None) -> Edits:
    """Return what was edited, of the places that the trials of an inspection met.

    Parameters
    ----------
    arms : pair of ArmState
        The reference and the candidate.
    """
    sides = (kept.against or 0, kept.arm)
    hit = tuple(_met(kept, arm) for arm in sides)
    edits = edits_of((hit[0], hit[1]), (arms[0].folder, arms[1].folder), source_text)
    packages, hunks = tuple(_packages(edits)), tuple(_hunks(edits))
    return replace(edits, subjects=_subjects(arms, git), packages=packages, hunks=hunks)


def with_edits(kept: Kept) -> Kept:
    """Return what is kept with what was edited: of an unfinished inspection it is read now, if the arms still lie."""
    if kept.edits.matches or kept.against is None or not kept.head.observed_here:
        return kept
    arms = kept.head.arms[kept.against], kept.head.arms[kept.arm]
    return replace(kept, edits=edits_between(kept, arms, None)) if Path(arms[1].folder).is_dir() else kept


def _met(kept: Kept, arm: int) -> set[Place]:
    met = {place for trial in kept.trials if trial.arm == arm for place in trial.stacks.places}
    return met | {place for _, counts in kept.counts.get(arm, []) for place in counts.places}


def _subjects(arms: tuple[ArmState, ArmState], git: Git | None) -> tuple[str, ...]:
    before, after = (arm.facts.commit for arm in arms)
    if git and before and after and before != after:
        with suppress(ArmError):
            return git.subjects(before, after, _MOST_SUBJECTS)
    return ()


def _packages(edits: Edits) -> Iterable[str]:
    """Yield the packages outside the arms that differ, with their releases."""
    differ: dict[str, dict[int, str]] = {}
    for match in edits.matches:
        for side, place in enumerate((match.before, match.after)):
            if match.standing.is_edit and place and (found := installed_in(place.file)):
                releases = differ.setdefault(found[1], {})
                if side not in releases:
                    releases[side] = package_release(*found)
    for name, releases in sorted(differ.items()):
        before, after = releases.get(0, ""), releases.get(1, "")
        yield f"{name} {before}, then {after}" if before and after and before != after else name


def _hunks(edits: Edits) -> Iterable[Hunk]:
    """Yield how functions were edited, as far as both files lie there."""
    edited = [one for one in edits.matches if one.standing is Standing.EDITED and one.before and one.after]
    for before, after, _ in edited[:_MOST_HUNKS]:
        assert before
        assert after
        texts = source_text(before.file), source_text(after.file)
        if texts[0] is not None and texts[1] is not None:
            lines = hunk_of((texts[0], texts[1]), after.name, (before.line, after.line), _MOST_LINES)
            if lines:
                yield Hunk(after, lines)


def with_hunks(account: Account, edits: Edits) -> Account:
    """Return an account whose edited leads tell how they were edited."""
    known = {one.place: one.lines for one in edits.hunks}
    leads = tuple(replace(lead, hunk=known.get(lead.place, ())) for lead in account.leads)
    return replace(account, leads=leads)


def moved_on(kept: Kept, places: Iterable[Place]) -> set[Place]:
    """Return the places of the candidate whose code in the study's folder is no longer what was watched.

    Only of arms that were laid out apart and still lie: of a folder that is used where it lies nobody can tell.
    """
    head, arm = kept.head, kept.head.arms[kept.arm]
    if not head.observed_here or not head.study_folder or arm.facts.digest or arm.folder == head.study_folder:
        return set()
    found = set()
    for place in places:
        file = short_file(place.file, arm.folder)
        if place.kind != PYTHON or file == place.file or file.startswith(".."):
            continue
        then, now = source_text(place.file), source_text(str(Path(head.study_folder, file)))
        if then is not None and now != then and _digest(then, place.name) != _digest(now or "", place.name):
            found.add(place)
    return found


def _digest(text: str, name: str) -> set[str]:
    """Return the digests of the functions of a name."""
    return {one.digest for one in functions_of(text) or () if one.name == name}


def source_now(head: RecordHead, run: Run, arm: int, file: str, what: str) -> tuple[str | None, str]:
    """Return a file's text as it lies there now, None where it does not, and what speaks against it.

    Parameters
    ----------
    what : str
        What stands beside lines: "seconds", or "counts".
    """
    if not file or file.startswith("<") or not head.observed_here:
        return None, f"Its source is not here: {what} by line without text."
    text = source_text(file)
    if text is None:
        return None, f"{file} is not there any more, or is no text: {what} by line without it."
    done = "watched" if what == "seconds" else "counted"
    edited = _edited_since(head, run, arm, Path(file))
    return text, f"The file was written to after it was {done}: its lines may not be those that ran." if edited else ""


def _edited_since(head: RecordHead, run: Run, arm: int, file: Path) -> bool:
    """Whether a file holds something else than when a run ended, as far as that can be told.

    Its time may have been set back by whoever copied it; when the inode changed cannot be set. What was only touched
    holds what the state that the record kept holds.
    """
    try:
        state = file.stat()
        if run.ended_wall_s is None or max(state.st_mtime, state.st_ctime) <= run.ended_wall_s:
            return False
        return _kept_content(head, arm, file) != file.read_bytes()
    except OSError:
        return False


def _kept_content(head: RecordHead, arm: int, file: Path) -> bytes | None:
    """Return what the copy holds that a record keeps of an arm's folder; None where it keeps none."""
    folder = Path(head.study_folder)
    if not (folder / _OWN).is_dir() or not file.is_relative_to(head.arms[arm].folder):
        return None
    states = KeptStates(StudyFolder(folder))
    kept = states.of(head.uuid)
    state = kept.arms.get(head.study.arms[arm].name) if kept else None
    if not isinstance(state, KeptState):
        return None
    return states.content(state, file.relative_to(head.arms[arm].folder))
