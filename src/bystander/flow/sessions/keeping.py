"""What an observation keeps of the folders that its arms ran in, so that they can be taken up again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from bystander.design import Arm, ArmState, KeptState, Study
from bystander.errors import NotKeptError
from bystander.field import DEFAULT_KEPT_BYTES, ArmMaker, KeptOfRecord, KeptStates, StudyFolder, Wanted, arm_words
from bystander.flow.observer import Observer
from bystander.units import listed

__all__ = ["WITHOUT_ALSO", "Keeper", "Keeping", "no_files_text"]

_NAMED = 4
WITHOUT_ALSO = "an arm of a study in git is the files that git does not ignore"


@dataclass(frozen=True)
class Keeping:
    """What the user asks to be kept.

    Attributes
    ----------
    also : tuple of str
        Patterns of files that are ignored, and taken all the same.
    most : int
        The most bytes that are kept of a folder; 0 for nothing.
    first : Arm or None
        The arm with which a chain of observations began.
    """

    also: tuple[str, ...] = ()
    most: int = DEFAULT_KEPT_BYTES
    first: Arm | None = None


def no_files_text(names: Sequence[str]) -> str:
    """Return the sentence on what a kept state leaves out because it is no file, folder or link; "" for nothing."""
    if not names:
        return ""
    return f"{listed(list(dict.fromkeys(names)), _NAMED)}: no file, folder or link, and left out of what is kept"


class Keeper:
    """Takes the states of a study's arms before its first trial, and writes down which record keeps them."""

    def __init__(self, study: Study, home: StudyFolder, maker: ArmMaker, asked: Keeping) -> None:
        self._study, self._home, self._asked = study, home, asked
        self._wanted = Wanted((), asked.also, asked.most, maker.left_out(study))
        self._found: dict[str, KeptState | str] = {}
        self.states = KeptStates(home)

    def before_making(self, observer: Observer) -> None:
        """Keep the folders that arms use where they lie, as they are before anything is built in them."""
        taken: dict[tuple[Path, tuple[str, ...]], KeptState | str] = {}
        told: set[str] = set()
        for arm in self._study.arms:
            folder = (self._home.path / arm.folder).resolve()
            if arm.kept:
                self._found[arm.name] = arm.kept
            elif arm.in_place or not (arm.revision or self._in_git(folder)):
                key = folder, arm_words(self._study, arm)
                if key not in taken:
                    taken[key] = self._taken(*key)
                state = self._found[arm.name] = taken[key]
                if arm.in_place and isinstance(state, str) and self._asked.most and state not in told:
                    told.add(state)
                    observer.remark(
                        f"the state of this folder is not kept, and --again cannot compare with it: {state}"
                    )
            elif self._asked.also:
                told.add(WITHOUT_ALSO)
        if text := no_files_text(self.states.no_files):
            observer.remark(text)
        if WITHOUT_ALSO in told:
            observer.remark(f"--also does nothing here: {WITHOUT_ALSO}")

    def _in_git(self, folder: Path) -> bool:
        return folder == self._home.path and self._home.git is not None

    def _taken(self, folder: Path, words: tuple[str, ...]) -> KeptState | str:
        if not self._asked.most:
            return "--keep says so"
        try:
            return self.states.take(folder, replace(self._wanted, words=words))
        except NotKeptError as error:
            return str(error)

    def write(self, record: str, arms: Sequence[ArmState], observer: Observer) -> None:
        """Write down what a record keeps, by its UUID; trees of git are known once the arms are made."""
        found = dict(self._found)
        for arm, state in zip(self._study.arms, arms, strict=True):
            if arm.name not in found and (git := self._home.git) and state.facts.tree:
                inside = str(self._home.path.relative_to(git.top.resolve())).removeprefix(".")
                found[arm.name] = KeptState("tree", state.facts.tree, inside)
        try:
            self.states.write(record, KeptOfRecord(found, self._asked.first, self._asked.also, self._asked.most))
        except OSError as error:
            observer.remark(f"what ran cannot be written down, and --again cannot compare with it: {error.strerror}")
