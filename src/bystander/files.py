"""Files of our own: only their owner reads them, they come about whole, and no link leads them elsewhere."""

from __future__ import annotations

import os
import secrets
from contextlib import suppress
from pathlib import Path

__all__ = [
    "make_private_folder",
    "mode_at",
    "new_private_file",
    "open_private_file",
    "read_at_most",
    "write_whole",
]

_NEW = os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_MODE, _FOLDER_MODE = 0o600, 0o700


def make_private_folder(path: Path) -> None:
    """Make a folder that nobody else enters, where it is not there; those above it as usual."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with suppress(FileExistsError):
        path.mkdir(_FOLDER_MODE)
    if not path.is_dir():
        raise NotADirectoryError(20, "it is a link that leads nowhere, or no folder", str(path))


def mode_at(path: Path, *, follow: bool = True) -> int:
    """Return the type and permissions of what lies at a path; 0 where nothing does, or nothing could."""
    try:
        return path.stat(follow_symlinks=follow).st_mode
    except (OSError, ValueError):  # words of a command are tried too: too long for a name, or with a NUL
        return 0


def new_private_file(path: Path, mode: int = _MODE) -> int:
    """Return a descriptor to write a file that was not there; raise FileExistsError where anything is."""
    return os.open(path, os.O_WRONLY | _NEW, mode)


def open_private_file(path: Path) -> None:
    """Make an empty file where nothing is; raise OSError for a link that leads nowhere."""
    if path.exists():
        return
    try:
        os.close(new_private_file(path))
    except FileExistsError:
        if not path.exists():
            raise FileExistsError(17, "it is a link that leads nowhere", str(path)) from None


def read_at_most(path: Path, most: int) -> bytes | None:
    """Return the content of a file that a user named, None where it is larger: some never end."""
    with path.open("rb") as file:
        data = file.read(most + 1)
    return data if len(data) <= most else None


def write_whole(path: Path, data: str | bytes, mode: int = _MODE) -> None:
    """Write a file whole or not at all; what was there, also a link, gives way to it. The umask cuts the mode."""
    part = path.with_name(f".{path.name[:80]}.{secrets.token_hex(4)}.part")
    try:
        with os.fdopen(new_private_file(part, mode), "wb") as file:
            file.write(data.encode("utf-8", "surrogateescape") if isinstance(data, str) else data)
        part.replace(path)
    except BaseException:
        with suppress(OSError):
            part.unlink(missing_ok=True)
        raise
