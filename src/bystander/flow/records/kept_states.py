"""The states of folders that records keep beside the archive: their size, and what becomes of them."""

from __future__ import annotations

import os
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from bystander.archive import Archive
from bystander.design import RecordHead
from bystander.errors import ArmError, MachineBusyError
from bystander.field import KeptStates, MachineLock, StudyFolder

__all__ = ["forget_states", "prune_states", "states_bytes"]


def _homes(heads: Iterable[RecordHead], archive: Path) -> dict[Path, StudyFolder]:
    """Return the folders that records observed here ran in, as far as they are still there."""
    found: dict[Path, StudyFolder] = {}
    for head in heads:
        folder = Path(head.study_folder)
        there = (folder / ".bystander").is_dir() or (folder.is_dir() and not os.access(folder, os.W_OK))
        if head.observed_here and folder not in found and there:
            found[folder] = StudyFolder(folder)
            found[folder].keep_beside(archive)
    return found


def states_bytes(archive: Path) -> int:
    """Return what the states take that the records of an archive keep, in bytes; what two share counts once."""
    with Archive(archive) as kept:
        homes = _homes(kept.heads(), archive)
    return sum(KeptStates(home).size() for home in homes.values())


def forget_states(heads: Iterable[RecordHead], archive: Path) -> None:
    """Let go of the states of records that are removed."""
    heads = list(heads)
    homes = _homes(heads, archive)
    for head in heads:
        if home := homes.get(Path(head.study_folder)):
            KeptStates(home).forget(head.uuid)


def prune_states(archive: Path) -> tuple[int, int, str]:
    """Remove states that no record keeps; return their bytes before and after, and why nothing could be done, or "".

    A state that is kept just now belongs to a record that is not begun yet: while something is observed all stay.
    """
    with Archive(archive) as kept:
        homes = _homes(kept.heads(), archive)
    states = [KeptStates(home) for home in homes.values()]
    before = sum(one.size() for one in states)
    try:
        with MachineLock("room given back"):
            for one in states:
                with suppress(ArmError):
                    one.prune()
    except MachineBusyError as error:
        return before, before, str(error).partition("; ")[0]
    return before, sum(one.size() for one in states), ""
