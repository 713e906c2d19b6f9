"""What a folder holds: digests that tell whether it is what it was, and which files are not."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

__all__ = ["FolderState", "folder_state"]

_HASHED_BYTES = 256 * 2**20
_NOT_CODE = {".bystander", ".git", "__pycache__"}


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


def folder_state(folder: Path) -> FolderState:
    """Read a folder; what Python, git and Bystander keep there for themselves does not count."""
    found = []
    for place, folders, names in os.walk(folder):
        folders[:] = [name for name in folders if name not in _NOT_CODE]
        links = [name for name in folders if Path(place, name).is_symlink()]
        found += [Path(place, name) for name in [*names, *links] if name not in _NOT_CODE]
    paths = sorted(path for path in found if path.is_symlink() or path.is_file())
    by_time = sum(path.lstat().st_size for path in paths) > _HASHED_BYTES
    files = {str(path.relative_to(folder)): _file_digest(path, by_time) for path in paths}
    total = hashlib.sha256()
    for name, digest in files.items():
        total.update(name.encode(errors="surrogateescape") + b"\0" + digest)
    return FolderState(("times-" if by_time else "") + total.hexdigest()[:24], files)


def _file_digest(path: Path, by_time: bool) -> bytes:
    state = path.lstat()
    digest = hashlib.sha256(f"{state.st_mode:o}\0{state.st_size}\0".encode())
    if path.is_symlink():
        digest.update(os.fsencode(path.readlink()))
    elif by_time:
        digest.update(str(state.st_mtime_ns).encode())
    else:
        with path.open("rb") as file:
            digest.update(hashlib.file_digest(file, "sha256").digest())
    return digest.digest()
