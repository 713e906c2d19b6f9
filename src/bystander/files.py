"""Files of our own: only their owner reads them, they come about whole, and no link leads them elsewhere.

Copies of folders share nothing with what they copy: no file, and no link that leads out of it. Scratch folders are
cleared away by the next command where their owner was killed.
"""

from __future__ import annotations

import fcntl
import os
import secrets
import shutil
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import NamedTuple

__all__ = [
    "Entry",
    "copy_file",
    "copy_tree",
    "entries",
    "held_lock",
    "lacks_room",
    "make_private_folder",
    "mode_at",
    "new_private_file",
    "open_private_file",
    "read_at_most",
    "remove_leftovers",
    "scratch_folder",
    "write_whole",
]

_NEW = os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_MODE, _FOLDER_MODE = 0o600, 0o700
_PREFIX, _HELD = "bystander-", "held"  # of scratch folders, and of the lock in one


def make_private_folder(path: Path) -> None:
    """Make a folder that nobody else enters, where it is not there; those above it as usual."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with suppress(FileExistsError):
        path.mkdir(_FOLDER_MODE)
    if not path.is_dir():
        raise NotADirectoryError(20, "it is a link that leads nowhere, or no folder", str(path))


def lacks_room(folder: Path, least: int) -> str:
    """Return why so many bytes or another file have no room on a folder's disk, as a clause; "" where they have."""
    try:
        disk = os.statvfs(folder)
    except OSError:
        return ""  # whoever writes there says what is wrong
    free = disk.f_bavail * disk.f_frsize
    if free < least:
        return f"has {free:,} bytes free" if free else "is full"
    return "has no room for another file" if disk.f_files and not disk.f_favail else ""


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
    part = _beside(path)
    try:
        with os.fdopen(new_private_file(part, mode), "wb") as file:
            file.write(data.encode("utf-8", "surrogateescape") if isinstance(data, str) else data)
        part.replace(path)
    except BaseException as error:
        with suppress(OSError):
            part.unlink(missing_ok=True)
        if isinstance(error, OSError):
            error.filename = str(path)  # nobody asked for the part, and a full disk names no file at all
        raise


@contextmanager
def held_lock(path: Path, wait: bool = True) -> Iterator[bool]:
    """Hold the lock of a file, which is made where it is not there and stays; a kill lets go of it.

    Yields
    ------
    bool
        Whether it is held: False only where another process holds it and nobody waits.
    """
    fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, _MODE)
    try:
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
        except BlockingIOError:
            yield False
        else:
            yield True
    finally:
        os.close(fd)


class Entry(NamedTuple):
    """What lies in a folder: its path relative to that, where it lies or leads, and its type as in `st_mode`.

    The type is 0 for what is no file, folder or link: a pipe, a socket, a device; and for a folder that a link leads
    back into.
    """

    name: str
    path: Path
    kind: int
    link: str = ""


def entries(
    folder: Path, leave: Callable[[str], bool] = lambda _: False, *, resolved: bool = False, but: Path | None = None
) -> Iterator[Entry]:
    """Yield what lies in a folder, folders before what lies in them, in the order of names.

    Parameters
    ----------
    leave : callable
        Whether a file or folder of this name, without folders, is left out.
    resolved : bool
        Links that lead out of the folder stand as what they lead to; those within it are relative.
    but : Path, optional
        A folder that is left out wherever it is met: the one that is written to just now.
    """
    root = Path(os.path.realpath(folder))
    written = but and os.path.realpath(but)
    # The last of each: real folders above it, so that a circle of links is seen, also one by way of those above all.
    waiting: list[tuple[str, Path, tuple[str, ...]]] = [("", folder, (str(root), *map(str, root.parents)))]
    while waiting:
        inside, place, above = waiting.pop()
        deeper = []
        for found in sorted(os.scandir(place), key=lambda one: one.name):
            if leave(found.name):
                continue
            name, path = os.path.join(inside, found.name), Path(found.path)  # noqa: PTH118
            kind, link, real = stat.S_IFMT(mode_at(path, follow=False)), "", ""
            if kind == stat.S_IFLNK:
                link, real = str(path.readlink()), os.path.realpath(path)
                if resolved:
                    kind, link = _led(root, name, real, link)
            if kind == stat.S_IFDIR:
                real = real or os.path.realpath(path)
                if real == written:
                    continue
                if real in above:
                    kind = 0
                else:
                    deeper.append((name, path, (*above, real)))
            yield Entry(name, path, kind if kind in (stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK) else 0, link)
        waiting += reversed(deeper)


def _led(root: Path, name: str, real: str, link: str) -> tuple[int, str]:
    """Return the type of what a link stands for, and where it leads if it stays one: within the folder, or nowhere."""
    kind = stat.S_IFMT(mode_at(Path(real)))
    if Path(real).is_relative_to(root):  # also of a link that stands in a folder elsewhere, and leads back
        return stat.S_IFLNK, os.path.relpath(os.path.relpath(real, root), Path(name).parent)
    return (kind, "") if kind else (stat.S_IFLNK, link)


def copy_tree(
    source: Path, target: Path, leave: Callable[[str], bool] = lambda _: False, *, resolved: bool = False
) -> tuple[str, ...]:
    """Copy what lies in a folder into another one, which is made, with modes and times; parameters as for `entries`.

    Returns
    -------
    tuple of str
        What was left out because it is no file, folder or link, relative to the folder.
    """
    target.mkdir(parents=True, exist_ok=True)
    left, folders = [], [(source, target)]
    for name, path, kind, link in entries(source, leave, resolved=resolved, but=target):
        to = target / name
        if kind == stat.S_IFDIR:
            if to.is_symlink():
                to.unlink()
            to.mkdir(exist_ok=True)
            folders.append((path, to))
        elif kind == stat.S_IFLNK:
            to.unlink(missing_ok=True)
            to.symlink_to(link)
        elif not kind or not copy_file(path, to):
            left.append(name)
    for path, to in reversed(folders):  # last: what is made in a folder changes its time
        shutil.copystat(path, to)
    return tuple(left)


def copy_file(source: Path, target: Path) -> bool:
    """Copy a file, with its mode and time, to one of its own; return False for what is none. A link is followed.

    What was there gives way to it.
    """
    # It may have become a pipe since we looked, and a pipe would be waited for.
    with os.fdopen(os.open(source, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC), "rb") as data:
        state = os.fstat(data.fileno())
        if not stat.S_ISREG(state.st_mode):
            return False
        part = target
        try:
            fd = new_private_file(target)
        except FileExistsError:
            part = _beside(target)
            fd = new_private_file(part)
        try:
            with os.fdopen(fd, "wb") as file:
                shutil.copyfileobj(data, file, 1 << 20)
                file.flush()
                os.fchmod(file.fileno(), stat.S_IMODE(state.st_mode))
                os.utime(file.fileno(), ns=(state.st_atime_ns, state.st_mtime_ns))
            if part != target:
                part.replace(target)
        except BaseException:
            with suppress(OSError):
                part.unlink(missing_ok=True)
            raise
    return True


def _beside(path: Path) -> Path:
    return path.with_name(f".{path.name[:80]}.{secrets.token_hex(4)}.part")


@contextmanager
def scratch_folder() -> Iterator[Path]:
    """Give a folder for temporary files; a lock in it says that its owner lives."""
    import tempfile  # here, as it loads much that the help needs not

    with tempfile.TemporaryDirectory(prefix=_PREFIX, ignore_cleanup_errors=True) as name:
        folder = Path(name)
        # It gets its name once it is locked: another command that clears up must never find it free in between.
        part = folder / f"{_HELD}.part"
        fd = os.open(part, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(fd, fcntl.LOCK_EX)
            part.rename(folder / _HELD)
            yield folder
        finally:
            os.close(fd)


def remove_leftovers() -> int:
    """Remove this user's scratch folders whose owners are gone, and return how many."""
    import tempfile

    removed = 0
    for folder in Path(tempfile.gettempdir()).glob(_PREFIX + "*"):
        with suppress(OSError):
            state = folder.lstat()
            if state.st_uid == os.getuid() and folder.is_dir() and not folder.is_symlink() and _cleared(folder):
                removed += 1
    return removed


def _cleared(folder: Path) -> bool:
    """Remove a folder whose lock nobody holds.

    One without a lock is not ours, was made just now, or its owner was killed before it could take the lock: then it is
    empty, and only an empty one is removed.
    """
    try:
        fd = os.open(folder / _HELD, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except FileNotFoundError:
        if _just_made(folder):
            return False
        folder.rmdir()
        return True
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    finally:
        os.close(fd)
    shutil.rmtree(folder, ignore_errors=True)
    return True


def _just_made(folder: Path) -> bool:
    """Whether a folder is younger than a minute, by its disk's own clock."""
    import tempfile

    with tempfile.TemporaryFile(dir=folder.parent) as now:
        return os.fstat(now.fileno()).st_mtime - folder.stat().st_mtime < 60
