"""What a folder holds: digests that tell whether it is what it was, and which files are not."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path

__all__ = [
    "CACHE_TAG",
    "EVERYTHING",
    "HASHED_BYTES",
    "NOT_CODE",
    "FolderState",
    "NotOfTheArm",
    "file_digest",
    "fits",
    "folder_state",
    "link_digest",
    "state_of",
]

_LINK_MODE = stat.S_IFLNK | 0o777  # Linux gives every link all permissions
HASHED_BYTES = 256 * 2**20
CACHE_TAG = "CACHEDIR.TAG"  # says that a folder can be made again at any time, as test runners and linters do
NOT_CODE = {".bystander", ".git", "__pycache__"}


@dataclass(frozen=True)
class NotOfTheArm:
    """What lies in an arm's folder and is no part of the arm.

    Attributes
    ----------
    patterns : tuple of str
        Of paths relative to the folder; * stands for any letters, slashes too.
    files : frozenset of (int, int)
        Device and inode of files that Bystander itself writes just now.
    """

    patterns: tuple[str, ...] = ()
    files: frozenset[tuple[int, int]] = frozenset()

    def holds(self, name: str, state: os.stat_result) -> bool:
        """Whether a file is one of them, by its path relative to the folder."""
        return fits(name, self.patterns) or (state.st_dev, state.st_ino) in self.files


EVERYTHING = NotOfTheArm()  # everything counts


def fits(name: str, patterns: tuple[str, ...]) -> bool:
    """Whether a relative path fits one of the patterns."""
    return any(fnmatchcase(name, pattern) for pattern in patterns)


@dataclass(frozen=True)
class FolderState:
    """A folder as it was.

    Attributes
    ----------
    digest : str
        Of the paths, modes and contents of all files. Beyond 256 MiB, sizes and times stand for the
        contents, and the digest says so in front.
    files : mapping
        Digest by path, relative to the folder.
    """

    digest: str
    files: Mapping[str, bytes]

    def changed(self, later: FolderState) -> tuple[str, ...]:
        """Return the paths that were added, removed or changed since, in alphabetical order."""
        paths = self.files.keys() | later.files.keys()
        return tuple(sorted(path for path in paths if self.files.get(path) != later.files.get(path)))


def folder_state(folder: Path, left_out: NotOfTheArm = EVERYTHING) -> FolderState:
    """Read a folder; what Python, git and Bystander keep there for themselves does not count, nor what is left out."""
    found = []
    for place, folders, names in os.walk(folder):
        if CACHE_TAG in names and Path(place) != folder:
            folders.clear()
            continue
        folders[:] = [name for name in folders if name not in NOT_CODE]
        links = [name for name in folders if Path(place, name).is_symlink()]
        found += [Path(place, name) for name in [*names, *links] if name not in NOT_CODE]
    # What is removed while we look is not there; what may not be read stands with its size and time.
    sizes = {path: size for path in sorted(found) if (size := _size(path, folder, left_out)) is not None}
    by_time = sum(sizes.values()) > HASHED_BYTES
    digests = {path: digest for path in sizes if (digest := file_digest(path, by_time)) is not None}
    return state_of({str(path.relative_to(folder)): digest for path, digest in digests.items()}, by_time)


def state_of(files: Mapping[str, bytes], by_time: bool = False) -> FolderState:
    """Return what a folder is that holds files of these digests, in the order in which they stand."""
    total = hashlib.sha256()
    for name, digest in files.items():
        total.update(name.encode(errors="surrogateescape") + b"\0" + digest)
    return FolderState(("times-" if by_time else "") + total.hexdigest()[:24], files)


def _size(path: Path, folder: Path, left_out: NotOfTheArm) -> int | None:
    """Return the size of a file that counts, None for another one."""
    try:
        if path.suffix == ".pyc" or not (path.is_symlink() or path.is_file()):
            return None
        state = path.lstat()
    except OSError:
        return None
    return None if left_out.holds(str(path.relative_to(folder)), state) else state.st_size


def link_digest(target: str) -> bytes:
    """Return what `file_digest` tells of a link that leads there."""
    to = os.fsencode(target)
    return hashlib.sha256(f"{_LINK_MODE:o}\0{len(to)}\0".encode() + to).digest()


def file_digest(path: Path, by_time: bool = False) -> bytes | None:
    """Return what tells a file from what it was, by mode and contents or time; None where it is gone."""
    try:
        state = path.lstat()
        digest = hashlib.sha256(f"{state.st_mode:o}\0{state.st_size}\0".encode())
        if path.is_symlink():
            digest.update(os.fsencode(path.readlink()))
        elif by_time:
            digest.update(str(state.st_mtime_ns).encode())
        else:
            with path.open("rb") as file:
                digest.update(hashlib.file_digest(file, "sha256").digest())
    except FileNotFoundError:
        return None
    except OSError:
        digest.update(str(state.st_mtime_ns).encode())
    return digest.digest()
