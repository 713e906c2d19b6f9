"""Edits between kept states, as patches; and states to which patches are applied."""

from __future__ import annotations

from pathlib import Path

from bystander.design import KeptState
from bystander.errors import ArmError, NotAppliedError
from bystander.field.arms.folders import folder_state
from bystander.field.arms.git import Git
from bystander.field.arms.study_folder import StudyFolder
from bystander.field.kept.states import KeptStates
from bystander.field.launching.scratch import scratch_folder
from bystander.files import copy_tree, make_private_folder

__all__ = ["Edits"]

_AS_TEXT = ("--no-color", "--no-ext-diff", "--no-textconv", "--no-renames", "--full-index", "--binary", "--unified=3",
            "--src-prefix=a/", "--dst-prefix=b/", "--diff-algorithm=histogram")  # fmt: skip


class Edits:
    """Patches between the states of one study's folder."""

    def __init__(self, home: StudyFolder) -> None:
        self._home, self._states = home, KeptStates(home)
        self._objects = home.own / "objects"

    def patch(self, before: KeptState, after: KeptState) -> str:
        """Return what leads from one state to another, in the format of git; raise ArmError where one is gone."""
        if before.how == after.how == "tree" and (git := self._home.git):
            objects = self._objects if self._objects.is_dir() else None
            return git.patch(("diff-tree", "-r", *_AS_TEXT, before.digest, after.digest), objects)
        with scratch_folder() as scratch:
            for name, state in (("a", before), ("b", after)):
                (scratch / name).mkdir()
                self._states.lay_out(state, scratch / name)
            how = [word for word in _AS_TEXT if "prefix" not in word]
            return Git(scratch).patch(("diff", "--no-index", "--no-prefix", *how, "a", "b"), differs=True)

    def applied(self, state: KeptState, patch: str) -> KeptState:
        """Return a state with a patch applied to it, which is kept from now on.

        Raises
        ------
        NotAppliedError
            When it does not apply, with the line of git that says why.
        """
        if not patch.strip():
            return state
        if state.how == "tree" and (git := self._home.git):
            make_private_folder(self._objects)
            return KeptState("tree", git.applied(state.digest, patch, self._objects), state.inside)
        with scratch_folder() as scratch:
            folder = scratch / "files"
            folder.mkdir()
            self._states.lay_out(state, folder)
            try:
                Git(folder).apply_here(patch)
            except ArmError as error:
                raise NotAppliedError(str(error)) from None
            return KeptState("copy", self._keep(folder))

    def _keep(self, folder: Path) -> str:
        """Move a folder among the states, and return its digest."""
        digest = folder_state(folder).digest
        target = self._home.own / "states" / digest
        if not target.is_dir():
            make_private_folder(target.parent)
            copy_tree(folder, target)
        return digest
