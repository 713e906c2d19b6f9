"""Git through its command line, with hooks off and nobody's configuration read."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Mapping
from pathlib import Path

from bystander.errors import ArmError
from bystander.field.trials.scratch import scratch_folder

__all__ = ["Git"]

_NEUTRAL = (
    "-c", "core.hooksPath=/dev/null", "-c", "core.fsmonitor=false", "-c", "core.untrackedCache=false",
    "-c", "safe.directory=*", "-c", "advice.detachedHead=false", "-c", "gc.auto=0",
)  # fmt: skip


class Git:
    """One repository.

    Nothing here writes to the user's index, branches, object store or work tree: snapshots use an
    index and an object folder of their own.
    """

    def __init__(self, top: Path) -> None:
        self.top = top

    @classmethod
    def around(cls, folder: Path) -> Git | None:
        """Return the repository that a folder lies in, or None."""
        try:
            top = cls(folder).run("rev-parse", "--show-toplevel").strip()
        except (ArmError, FileNotFoundError, NotADirectoryError):
            return None
        return cls(Path(top)) if top else None

    def run(self, *words: str, variables: Mapping[str, str] | None = None) -> str:
        """Run git here and return what it printed; raise ArmError with its last line when it fails."""
        environment = {name: value for name, value in os.environ.items() if not name.startswith("GIT_")}
        environment |= {
            "GIT_CONFIG_GLOBAL": os.devnull,
            "GIT_CONFIG_NOSYSTEM": "1",
            "GIT_OPTIONAL_LOCKS": "0",
            "GIT_TERMINAL_PROMPT": "0",
            "LC_ALL": "C",
            **(variables or {}),
        }
        try:
            done = subprocess.run(
                ["git", *_NEUTRAL, *words],
                cwd=self.top, env=environment, stdin=subprocess.DEVNULL, capture_output=True, text=True,
                errors="surrogateescape", check=False,
            )  # fmt: skip
        except FileNotFoundError as error:
            if not self.top.is_dir():
                raise ArmError(f"there is no folder {self.top}") from error
            raise ArmError("git is not installed, and an arm names a revision or lies in a repository") from error
        if done.returncode:
            lines = done.stderr.strip().splitlines() or ["it said nothing"]
            raise ArmError(f"git {words[0]} failed in {self.top}: {lines[-1]}")
        return done.stdout

    def commit(self, revision: str) -> str:
        """Return the commit id of a revision; raise ArmError when there is none."""
        if revision.startswith("-"):
            raise ArmError(f'"{revision}" is no revision')
        return self.run("rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}").strip()

    def tree_of(self, commit: str) -> str:
        """Return the id of a commit's tree."""
        return self.run("rev-parse", f"{commit}^{{tree}}").strip()

    def subject(self, commit: str) -> str:
        """Return the first line of a commit's message."""
        return self.run("log", "-1", "--format=%s", commit).strip()

    def subjects(self, before: str, after: str, most: int) -> tuple[str, ...]:
        """Return digest and first line of commits that one commit has and another has not, the newest first."""
        said = self.run("log", f"--max-count={most}", "--format=%h %s", f"{before}..{after}")
        return tuple(said.splitlines())

    def export_tree(self, tree: str, folder: Path, objects: Path | None = None) -> None:
        """Write the files of a tree into a folder, through an index of its own."""
        with scratch_folder() as scratch:
            variables = {"GIT_INDEX_FILE": str(scratch / "index"), "GIT_WORK_TREE": str(self.top)}
            variables |= self._objects(objects)
            self.run("read-tree", tree, variables=variables)
            self.run("checkout-index", "--all", "--force", f"--prefix={folder}/", variables=variables)

    def snapshot(self, objects: Path) -> str:
        """Write the working tree, tracked and untracked but not ignored, and return its tree id.

        Parameters
        ----------
        objects : Path
            A folder that takes the new objects.
        """
        objects.mkdir(parents=True, exist_ok=True)
        with scratch_folder() as scratch:
            index = scratch / "index"
            variables = {"GIT_INDEX_FILE": str(index), **self._objects(objects)}
            mine = self.top / self.run("rev-parse", "--git-path", "index").strip()
            if mine.exists():  # a copy knows which files did not change, so that few are read
                # With its time: by that git sees which files may have changed within the second of its last writing.
                shutil.copy2(mine, index)
            self.run("add", "--all", "--", ".", ":(exclude,top,glob)**/.bystander/**", variables=variables)
            return self.run("write-tree", variables=variables).strip()

    def _objects(self, own: Path | None) -> dict[str, str]:
        if own is None:
            return {}
        shared = self.run("rev-parse", "--git-path", "objects").strip()
        shared_path = (self.top / shared).resolve()
        return {"GIT_OBJECT_DIRECTORY": str(own), "GIT_ALTERNATE_OBJECT_DIRECTORIES": str(shared_path)}
