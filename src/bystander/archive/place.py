"""Where an archive may lie."""

from __future__ import annotations

from pathlib import Path

from bystander.errors import ArchiveError

__all__ = ["refuse_network"]

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
