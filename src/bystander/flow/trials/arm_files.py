"""Arms must stay what they are while trials run: their files are read before the first trial and after the last."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from bystander.design import ArmState, Study
from bystander.field import ArmMaker, FolderState, folder_state
from bystander.units import listed

__all__ = ["ArmFiles"]

_NAMED = 12


def _toml(names: Sequence[str]) -> str:
    """Return names as a list in a study."""
    return "[" + ", ".join(f'"{name}"' for name in names) + "]"


class ArmFiles:
    """The files of all arms as they were when this was made; arms run in place are left out."""

    def __init__(self, maker: ArmMaker, study: Study, arms: tuple[ArmState, ...]) -> None:
        self._folders: dict[str, Path] = {}
        for arm, state in zip(study.arms, arms, strict=True):
            if folder := maker.folder_of(arm, state):
                self._folders[state.name] = folder
        self._maker, self._study = maker, study
        self._before = self._states()

    def _states(self) -> dict[Path, FolderState]:
        left_out = self._maker.left_out(self._study)  # asked anew: the archive may be made meanwhile
        return {folder: folder_state(folder, left_out) for folder in set(self._folders.values())}

    def changes(self) -> list[str]:
        """Say which arms changed meanwhile, and name the first files."""
        after = self._states()
        sentences = []
        for name, folder in self._folders.items():
            paths = self._before[folder].changed(after[folder])
            if paths:
                files = listed(paths, _NAMED)
                sentences.append(
                    f"The files of arm {name} changed during the observation ({files}): not all of its trials ran the "
                    f"same. What trials are meant to write goes into written_files = {_toml(paths[:_NAMED])}."
                )
        return sentences
