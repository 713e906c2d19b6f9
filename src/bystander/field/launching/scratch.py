"""The space that trials need."""

from __future__ import annotations

from pathlib import Path

from bystander.errors import NoSpaceError
from bystander.files import lacks_room, remove_leftovers, scratch_folder
from bystander.units import size_text

__all__ = ["remove_leftovers", "require_space", "scratch_folder"]

_LEAST_FREE = 4 * 2**20  # bytes: what a trial's readings and harness need, with something to spare


def require_space(folder: Path, least: int = _LEAST_FREE) -> None:
    """Raise NoSpaceError when a folder's disk is as good as full: a trial would fail for that, not for its arm.

    Parameters
    ----------
    least : int
        So many bytes must be free.
    """
    if why := lacks_room(folder, least):
        raise NoSpaceError(f"the disk of {folder} {why}, and trials need {size_text(least)}")
