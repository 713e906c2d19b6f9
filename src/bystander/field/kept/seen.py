"""What the files of a copy were in the folder that it was taken from: it tells the same ones without reading them."""

from __future__ import annotations

import json
import os
import stat
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from bystander.field.arms.folders import HASHED_BYTES, file_digest
from bystander.files import write_whole

__all__ = ["FileSeen", "Seen", "read_seen", "seen_files", "still", "write_seen"]

_FORMAT = "bystander-seen/1"
_YOUNG_NS = 2 * 10**9  # a file that changed within the clock's last ticks may change again under the same times


class FileSeen(NamedTuple):
    """A file as it was: its digest, and device, inode, size and times by which it is known again."""

    digest: bytes
    device: int
    inode: int
    size: int
    mtime_ns: int
    ctime_ns: int

    @property
    def known_by(self) -> tuple[int, ...]:
        """What an edit changes, also one that keeps size and time: that of the inode cannot be set."""
        return self[1:]


@dataclass(frozen=True)
class Seen:
    """All files of a state, by their paths relative to the folder, and when they were looked at, in ns since 1970."""

    files: Mapping[str, FileSeen]
    at_ns: int = 0


def seen_files(folder: Path, names: Sequence[str], earlier: Seen | None, now_ns: int) -> Seen:
    """Look at files of a folder; what is gone is left out.

    Below 256 MiB together all are read. Above, one that is known again is taken to be as it was, unless it was younger
    than 2 s when it was read.
    """
    states: dict[str, os.stat_result] = {}
    for name in names:
        with suppress(OSError):
            states[name] = os.lstat(f"{folder}/{name}")
    known = earlier.files if earlier and sum(s.st_size for s in states.values()) > HASHED_BYTES else {}
    files: dict[str, FileSeen] = {}
    for name, state in states.items():
        by = _known_by(state)
        before = known.get(name)
        if before and before.known_by == by and state.st_ctime_ns < (earlier.at_ns if earlier else 0) - _YOUNG_NS:
            files[name] = before
        elif digest := file_digest(folder / name):
            files[name] = FileSeen(digest, *by)
    return Seen(files, now_ns)


def still(source: Path, copy: Path, seen: FileSeen) -> FileSeen:
    """Return what was seen of a file that is copied now: what the copy holds, where somebody wrote meanwhile."""
    with suppress(OSError):
        if _known_by(source.lstat()) == seen.known_by:
            return seen
    return FileSeen(file_digest(copy) or b"", *(0,) * 5)  # it is never known again


def _known_by(state: os.stat_result) -> tuple[int, int, int, int, int]:
    return state.st_dev, state.st_ino, state.st_size, state.st_mtime_ns, state.st_ctime_ns


def write_seen(file: Path, seen: Seen) -> None:
    """Keep what was seen beside a state."""
    files = {name: [one.digest.hex(), *one.known_by] for name, one in seen.files.items()}
    write_whole(file, json.dumps({"format": _FORMAT, "at_ns": seen.at_ns, "files": files}))


def read_seen(file: Path) -> Seen | None:
    """Return what was seen; None where nothing is kept, or something else."""
    try:
        if not stat.S_ISREG(file.lstat().st_mode):
            return None
        document = json.loads(file.read_text(encoding="utf-8"))
        if document["format"] != _FORMAT:
            return None
        told = document["files"].items()
        files = {str(name): FileSeen(bytes.fromhex(one[0]), *map(int, one[1:6])) for name, one in told}
        return Seen(files, int(document["at_ns"]))
    except (OSError, ValueError, KeyError, TypeError, AttributeError, IndexError, OverflowError, RecursionError):
        return None
