"""Where an archive may lie."""

from __future__ import annotations

import os
from pathlib import Path

from bystander.errors import ArchiveError, NoSpaceError
from bystander.files import lacks_room

__all__ = ["LEAST_ROOM", "on_a_full_disk", "refuse_long", "refuse_network", "refuse_read_only"]

# A lock that only pretends to lock, or a sync that only pretends to sync, loses readings.
_NETWORK = {
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "smbfs",
    "fuse.sshfs",
    "ceph",
    "fuse.glusterfs",
    "lustre",
    "afs",
    "9p",
}


def refuse_network(path: Path, mounts: str | None = None) -> None:
    """Raise ArchiveError when the file would lie on a network file system."""
    if mounts is None:
        try:
            mounts = Path("/proc/mounts").read_text(encoding="utf-8", errors="replace")
        except OSError:
            return
    best, kind = "", ""
    for line in mounts.splitlines():
        place, fs = line.split()[1:3]
        if path.is_relative_to(place) and len(place) >= len(best):
            best, kind = place, fs
    if kind in _NETWORK:
        raise ArchiveError(
            f"{path} lies on a network file system ({kind}), where its locks cannot be trusted; "
            "point --archive or BYSTANDER_ARCHIVE to a local disk"
        )


_LONGEST_PATH = 500  # bytes; SQLite takes 512, its log and shared memory have longer names


def refuse_long(path: Path) -> None:
    """Raise ArchiveError when the path is too long for the database."""
    if (length := len(os.fsencode(path.resolve()))) > _LONGEST_PATH:
        raise ArchiveError(
            f"the path of the archive is too long for its database: {length} bytes, {_LONGEST_PATH} at most; "
            f"--archive names a shorter one ({path.resolve()})"
        )


LEAST_ROOM = 2**18  # bytes: the database's shared memory and a page or two of its log


def on_a_full_disk(path: Path) -> NoSpaceError | None:
    """Return the error of an archive whose disk has no room even for reading it in place; None where it has."""
    why = lacks_room(path.parent, LEAST_ROOM)
    if not why:
        return None
    return NoSpaceError(f"the disk of the archive {path} {why}; free some room there, nothing that was kept is lost")


def refuse_read_only(path: Path) -> None:
    """Raise ArchiveError when nothing can be written to the file or beside it, where its log lies."""
    for what in (path.parent, path):
        if what.exists() and not os.access(what, os.W_OK):
            raise ArchiveError(
                f"the archive {path} cannot be written: {what} is read-only; decide and report can still read it, "
                "--archive names another one"
            )
