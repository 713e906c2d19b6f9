"""The folder in which a study lies: what the study's reader asks of it."""

from __future__ import annotations

import os
import stat
from contextlib import suppress
from functools import cached_property
from pathlib import Path

from bystander.errors import ArmError
from bystander.field.arms.git import Git
from bystander.files import make_private_folder, write_whole

__all__ = ["StudyFolder", "own_outputs"]


def own_outputs(archive: Path | None = None) -> frozenset[tuple[int, int]]:
    """Return device and inode of the files that Bystander writes: where its output and errors are led, its archive."""
    found = set()
    for fd in (1, 2):
        with suppress(OSError):
            state = os.fstat(fd)
            if stat.S_ISREG(state.st_mode):
                found.add((state.st_dev, state.st_ino))
    for file in [archive.with_name(archive.name + end) for end in ("", "-wal", "-shm")] if archive else ():
        with suppress(OSError):
            state = file.stat()
            found.add((state.st_dev, state.st_ino))
    return frozenset(found)


class StudyFolder:
    """A study's folder, its repository if any, and Bystander's own folder in it.

    Where nothing can be written there, its own folder is beside the archive, see `keep_beside`.
    """

    def __init__(self, path: Path) -> None:
        self.path = path.resolve()
        self.file = ""  # the study's, in this folder
        self._beside: Path | None = None

    def keep_beside(self, archive: Path | None) -> None:
        """Lay out arms beside an archive where the study's folder cannot be written."""
        if archive is not None and not os.access(self.path, os.W_OK):
            self._beside = archive.resolve().parent

    @cached_property
    def git(self) -> Git | None:
        """The repository around the folder."""
        return Git.around(self.path)

    @property
    def own(self) -> Path:
        """Bystander's folder, made when it is first needed; it ignores itself."""
        home = self._beside or self.path
        own = home if home.name == ".bystander" else home / ".bystander"
        make_private_folder(own)
        ignore = own / ".gitignore"
        if not ignore.exists():
            write_whole(ignore, "*\n")
        return own

    def has_folder(self, path: str) -> bool:
        """Whether there is such a folder, relative to the study."""
        return (self.path / path).is_dir()

    def revision_problem(self, revision: str) -> str | None:
        """Why a revision cannot be checked out: one clause, or None."""
        if self.git is None:
            return f'"{revision}" cannot be found: {self.path} lies in no git repository'
        try:
            self.git.commit(revision)
        except ArmError:
            return f'there is no revision "{revision}" in {self.git.top}; git log --oneline --all lists them'
        return None
