"""The folder in which a study lies: what the study's reader asks of it."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path

from bystander.errors import ArmError
from bystander.field.git import Git

__all__ = ["StudyFolder"]


class StudyFolder:
    """A study's folder, its repository if any, and Bystander's own folder in it."""

    def __init__(self, path: Path) -> None:
        self.path = path.resolve()

    @cached_property
    def git(self) -> Git | None:
        """The repository around the folder."""
        return Git.around(self.path)

    @property
    def own(self) -> Path:
        """Bystander's folder, made when it is first needed; it ignores itself."""
        own = self.path / ".bystander"
        own.mkdir(exist_ok=True)
        ignore = own / ".gitignore"
        if not ignore.exists():
            ignore.write_text("*\n", encoding="utf-8")
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
