"""Git through its command line: nothing that a repository's configuration names is run, unless a study allows it."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from bystander.errors import ArmError, NotAppliedError, UntrustedRepositoryError
from bystander.field.arms.git_filters import DRIVER_KEYS, Filters, filter_failure, meant_files
from bystander.field.arms.git_trust import (
    NOTHING_RUN,
    git_environment,
    git_program,
    own_settings,
    refused_repository,
)
from bystander.field.launching.scratch import scratch_folder
from bystander.files import make_private_folder

__all__ = ["ChosenFiles", "Git"]

_LIMIT_S = 1800.0  # of one command of git: a pipe in the place of a file that it reads would hold it for ever


@dataclass(frozen=True)
class ChosenFiles:
    """What a snapshot takes besides the files that are not ignored, and what it leaves out; relative to the top.

    Attributes
    ----------
    besides, left_out : tuple of str
        Files.
    links : mapping
        Where a link is laid in the place of a folder, and where it leads.
    """

    besides: tuple[str, ...] = ()
    left_out: frozenset[str] = frozenset()
    links: Mapping[str, str] = field(default_factory=dict)


class Git:
    """One repository.

    Nothing here writes to the user's index, branches, object store or work tree: snapshots use an
    index and an object folder of their own.
    """

    def __init__(self, top: Path, trusted: Sequence[str] | None = None) -> None:
        self.top = top
        if trusted is not None:
            self._trusted = list(trusted)

    @classmethod
    def around(cls, folder: Path) -> Git | None:
        """Return the repository that a folder lies in, or None.

        Raises
        ------
        UntrustedRepositoryError
            When it belongs to another user, and this one's configuration of git does not allow that.
        """
        here = cls(folder)
        try:
            top = here.run_plainly("rev-parse", "--show-toplevel").strip()
        except UntrustedRepositoryError:
            raise
        except (ArmError, FileNotFoundError, NotADirectoryError):
            return None
        return cls(Path(top), here._trusted) if top else None

    @cached_property
    def _trusted(self) -> list[str]:
        """The words that pass on which repositories of other users the user trusts."""
        return [word for _, value in own_settings(r"^safe\.directory$") for word in ("-c", f"safe.directory={value}")]

    @cached_property
    def filters(self) -> Filters:
        """The filters that the user's configuration and the repository's own name."""
        return Filters.of(self.run_plainly("config", "--includes", "-z", "--get-regexp", DRIVER_KEYS, empty=True))

    def run(
        self, *words: str, variables: Mapping[str, str] | None = None, filters: bool = False, given: str | None = None
    ) -> str:
        """Run git here and return what it printed; raise ArmError with its last line when it fails.

        Parameters
        ----------
        filters : bool
            Let the filters of the repository's configuration run too, not only those of the user's.
        given : str, optional
            What it reads.
        """
        return self.run_plainly(*self.filters.settings(filters), *words, variables=variables, given=given)

    def run_plainly(
        self, *words: str, variables: Mapping[str, str] | None = None, given: str | None = None, empty: bool = False
    ) -> str:
        """Run git without a word about filters; where `empty`, exit code 1 says that nothing was found."""
        try:
            done = subprocess.run(
                [git_program(), *NOTHING_RUN, *self._trusted, *words],
                cwd=self.top, env=git_environment(variables or {}), capture_output=True, text=True,
                errors="surrogateescape", check=False, timeout=_LIMIT_S,
                **({"stdin": subprocess.DEVNULL} if given is None else {"input": given}),
            )  # fmt: skip
        except FileNotFoundError as error:
            raise ArmError(f"there is no folder {self.top}") from error
        except subprocess.TimeoutExpired:
            raise ArmError(f"git did not end within half an hour in {self.top}") from None
        if done.returncode and not (empty and done.returncode == 1):
            if refusal := refused_repository(done.stderr):
                raise UntrustedRepositoryError(refusal)
            if failure := filter_failure(done.stderr):
                raise ArmError(failure)
            lines = done.stderr.strip().splitlines() or ["it said nothing"]
            raise ArmError(f"git {_command(words)} failed in {self.top}: {lines[-1]}")
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

    def export_tree(self, tree: str, folder: Path, objects: Path | None = None, filters: bool = False) -> None:
        """Write the files of a tree into a folder, through an index of its own, with the attributes that the tree has.

        Raises
        ------
        ArmError
            When the repository's configuration names a filter for any of them, and `filters` is not given.
        """
        with scratch_folder() as scratch:
            variables = {"GIT_INDEX_FILE": str(scratch / "index"), "GIT_WORK_TREE": str(folder)}
            variables |= self._objects(objects)
            self.run("read-tree", tree, variables=variables)
            if not filters:
                names = self.run("ls-files", "-z", variables=variables)
                self.filters.refuse_given(self._meant(names, ["--cached"], variables))
            self.run("checkout-index", "--all", "--force", variables=variables, filters=filters)

    def names(self, *options: str, variables: Mapping[str, str] | None = None) -> list[str]:
        """Return the files of the working tree that `git ls-files` names, relative to the top; never our own."""
        mine_not = ":(exclude,top,glob)**/.bystander/**"
        found = self.run("ls-files", "-z", *options, "--", ".", mine_not, variables=variables)
        return [name.rstrip("/") for name in found.split("\0") if name]

    def snapshot(self, objects: Path, filters: bool = False, chosen: ChosenFiles | None = None) -> str:
        """Write the working tree, tracked and untracked but not ignored, and return its tree id.

        Parameters
        ----------
        objects : Path
            A folder that takes the new objects.
        chosen : ChosenFiles, optional
            What is taken besides, and what is not.

        Raises
        ------
        ArmError
            When the repository's configuration names a filter for any of the files, and `filters` is not given.
        """
        make_private_folder(objects)
        with scratch_folder() as scratch:
            index = scratch / "index"
            variables = {"GIT_INDEX_FILE": str(index), **self._objects(objects)}
            mine = self.top / self.run("rev-parse", "--git-path", "index").strip()
            if mine.exists():  # a copy knows which files did not change, so that few are read
                # With its time: by that git sees which files may have changed within the second of its last writing.
                shutil.copy2(mine, index)
            # Not by `add`, which asks each submodule for its state, under the submodule's own configuration.
            taken = self.names("--cached", "--others", "--exclude-standard", variables=variables)
            if chosen:
                taken = [name for name in (*taken, *chosen.besides) if name not in chosen.left_out]
            names = "".join(f"{name}\0" for name in taken)
            if not filters:
                self.filters.refuse_given(self._meant(names, [], variables))
            how = ("--add", "--remove", "--replace", "--ignore-skip-worktree-entries", "-z", "--stdin")
            self.run("update-index", *how, variables=variables, filters=filters, given=names)
            if chosen and chosen.left_out:
                gone = "".join(f"{name}\0" for name in chosen.left_out)
                self.run("update-index", "--force-remove", "-z", "--stdin", variables=variables, given=gone)
            for link, target in (chosen.links if chosen else {}).items():
                blob = self.run("hash-object", "-w", "--stdin", variables=variables, given=target).strip()
                self.run("update-index", "--add", "--cacheinfo", f"120000,{blob},{link}", variables=variables)
            return self.run("write-tree", variables=variables).strip()

    def has_tree(self, tree: str, objects: Path | None) -> bool:
        """Whether a tree and what it is made of are still there."""
        try:
            self.run("rev-list", "--objects", "--quiet", tree, variables=self._objects(objects))
        except ArmError:
            return False
        return True

    def held(self, tree: str, objects: Path) -> set[str]:
        """Return the ids of all that a tree is made of, itself too."""
        said = self.run("rev-list", "--objects", "--no-object-names", tree, variables=self._objects(objects))
        return set(said.split())

    def differing(self, before: str, after: str, objects: Path | None) -> tuple[str, ...]:
        """Return the files in which two trees differ, in alphabetical order."""
        how = ("-r", "-z", "--name-only", "--no-renames", before, after)
        said = self.run("diff-tree", *how, variables=self._objects(objects))
        return tuple(sorted(name for name in said.split("\0") if name))

    def is_ancestor(self, first: str, last: str) -> bool:
        """Whether one commit can be reached from another by its parents."""
        said = self.run("rev-list", "--max-count=1", first, f"^{last}")
        return not said.strip()

    def commits(self, first: str, last: str, every: bool = False) -> tuple[tuple[str, str, str], ...]:
        """Return the commits from one to another that has it among its ancestors: id, short id and subject.

        Parameters
        ----------
        every : bool
            All of them, parents before children, rather than the line of first parents only.
        """
        how = ["--topo-order"] if every else ["--first-parent"]
        said = self.run("log", "--reverse", "--format=%H%x00%h%x00%s", *how, f"{first}..{last}")
        one = self.run("log", "--max-count=1", "--format=%H%x00%h%x00%s", first)
        found = []
        for line in (one + said).splitlines():
            commit, short, subject = line.split("\0")
            found.append((commit, short, subject))
        return tuple(found)

    def parents(self, commit: str) -> tuple[str, ...]:
        """Return the ids of a commit's parents."""
        return tuple(self.run("log", "--max-count=1", "--format=%P", commit).split())

    def patch(self, words: Sequence[str], objects: Path | None = None, differs: bool = False) -> str:
        """Return the patch that a command of git writes; line ends and bytes that are no text stay what they are.

        Parameters
        ----------
        differs : bool
            Whether exit code 1 says that there is one.
        """
        with scratch_folder() as scratch:
            file = scratch / "patch"
            command, *rest = words
            self.run_plainly(command, f"--output={file}", *rest, variables=self._objects(objects), empty=differs)
            return file.read_bytes().decode("utf-8", "surrogateescape")

    def applied(self, tree: str, patch: str, objects: Path) -> str:
        """Return the id of a tree with a patch applied; raise NotAppliedError when it does not apply."""
        with scratch_folder() as scratch:
            variables = {"GIT_INDEX_FILE": str(scratch / "index"), **self._objects(objects)}
            self.run("read-tree", tree, variables=variables)
            self._apply(scratch, patch, ("--cached",), variables)
            return self.run("write-tree", variables=variables).strip()

    def apply_here(self, patch: str) -> None:
        """Apply a patch to the files of this folder, which need not be in a repository."""
        with scratch_folder() as scratch:
            self._apply(scratch, patch, (), {"GIT_CEILING_DIRECTORIES": str(self.top.parent), "GIT_DIR": "/dev/null"})

    def _apply(self, scratch: Path, patch: str, how: Sequence[str], variables: Mapping[str, str]) -> None:
        file = scratch / "patch"
        file.write_bytes(patch.encode("utf-8", "surrogateescape"))
        try:
            self.run_plainly("apply", "--recount", "--whitespace=nowarn", *how, str(file), variables=variables)
        except ArmError as error:
            raise NotAppliedError(str(error).rpartition(": ")[2].removeprefix("error: ")) from None

    def _meant(self, names: str, where: Sequence[str], variables: Mapping[str, str]) -> dict[str, str]:
        """Return which of these files are meant for a filter, and its name."""
        how = ("check-attr", *where, "-z", "--stdin", "filter")
        return meant_files(self.run_plainly(*how, variables=variables, given=names))

    def filters_of(self, tree: str, objects: Path | None) -> dict[str, str]:
        """Return which files of a tree are meant for a filter, by the attributes that the tree has, and its name."""
        with scratch_folder() as scratch:
            variables = {"GIT_INDEX_FILE": str(scratch / "index"), **self._objects(objects)}
            self.run_plainly("read-tree", tree, variables=variables)
            return self._meant(self.run_plainly("ls-files", "-z", variables=variables), ["--cached"], variables)

    def _objects(self, own: Path | None) -> dict[str, str]:
        if own is None:
            return {}
        shared = self.run("rev-parse", "--git-path", "objects").strip()
        shared_path = (self.top / shared).resolve()
        return {"GIT_OBJECT_DIRECTORY": str(own), "GIT_ALTERNATE_OBJECT_DIRECTORIES": str(shared_path)}


def _command(words: Sequence[str]) -> str:
    """Return git's command among words of which the first ones may be settings."""
    rest = list(words)
    while len(rest) > 1 and rest[0] == "-c":
        del rest[:2]
    return rest[0]
