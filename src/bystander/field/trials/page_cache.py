"""Files in memory: putting them out of the page cache or into it, and measuring how much of them is there."""

from __future__ import annotations

import ctypes
import functools
import mmap
import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from bystander.errors import ArmError, UsageError

__all__ = ["candidates", "drop_everything", "evict", "load", "resident", "resident_share"]

_PAGE = mmap.PAGESIZE
_MOST_FILES = 200_000
_DROP = Path("/proc/sys/vm/drop_caches")
_FAILED = ctypes.c_void_p(-1).value


@functools.cache
def _libc() -> ctypes.CDLL:
    libc = ctypes.CDLL(None, use_errno=True)
    libc.mmap.restype = ctypes.c_void_p
    libc.mmap.argtypes = (ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int, ctypes.c_int, ctypes.c_int, ctypes.c_long)
    libc.munmap.argtypes = (ctypes.c_void_p, ctypes.c_size_t)
    libc.mincore.argtypes = (ctypes.c_void_p, ctypes.c_size_t, ctypes.c_char_p)
    return libc


@contextmanager
def _opened(path: Path) -> Iterator[int]:
    fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW)
    try:
        yield fd
    finally:
        os.close(fd)


def candidates(folder: Path, program: Path) -> list[Path]:
    """Return files that a start may read: the arm's own, its program, and the library that goes with it by name.

    Of a Python in a virtual environment, what is installed there and not what is installed beside it.

    Raises
    ------
    ArmError
        When there are more than a start can be watched for.
    """
    real, environment = program.resolve(), program.parent.parent
    found = {str(real)}
    in_environment = (environment / "pyvenv.cfg").is_file()
    roots = [folder.resolve(), *(real.parent.parent / name / real.name for name in ("lib", "lib64"))]
    for root in [*roots, environment / "lib"] if in_environment else roots:
        skipped = {".git", "site-packages"} if in_environment and root in roots[1:] else {".git"}
        waiting = [str(root)] if root.is_dir() else []
        while waiting:
            with suppress(OSError), os.scandir(waiting.pop()) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        if entry.name not in skipped:
                            waiting.append(entry.path)
                    elif entry.is_file(follow_symlinks=False):
                        found.add(entry.path)
            if len(found) > _MOST_FILES:
                raise ArmError(
                    f"{root} holds more than {_MOST_FILES} files; name those that a start reads with files = [...]"
                )
    return [Path(path) for path in sorted(found)]


def evict(files: Sequence[Path]) -> None:
    """Ask the kernel to put files out of memory; pages that are mapped by a running program stay."""
    for path in files:
        with suppress(OSError), _opened(path) as fd:
            with suppress(OSError):
                os.fdatasync(fd)  # a page that is not on disk yet cannot go
            os.posix_fadvise(fd, 0, 0, os.POSIX_FADV_DONTNEED)


def load(files: Sequence[Path]) -> None:
    """Read files, so that they are in memory."""
    for path in files:
        with suppress(OSError), path.open("rb", buffering=0) as file:
            while file.read(1 << 20):
                pass


def resident(path: Path) -> tuple[int, int]:
    """Return how many pages of a file are in memory, and how many it has; (0, 0) when it cannot be told."""
    libc = _libc()
    try:
        with _opened(path) as fd:
            size = os.fstat(fd).st_size
            pages = -(-size // _PAGE)
            if not pages:
                return 0, 0
            at = libc.mmap(None, size, mmap.PROT_READ, mmap.MAP_SHARED, fd, 0)
    except OSError:
        return 0, 0
    if at in (None, _FAILED):
        return 0, 0
    try:
        seen = ctypes.create_string_buffer(pages)
        if libc.mincore(at, size, seen):
            return 0, 0
        return sum(byte & 1 for byte in seen.raw[:pages]), pages
    finally:
        libc.munmap(at, size)


def resident_share(files: Sequence[Path]) -> float:
    """Return the share of the files' pages that are in memory, NaN where there is none."""
    counts = [resident(path) for path in files]
    pages = sum(count for _, count in counts)
    return sum(count for count, _ in counts) / pages if pages else float("nan")


def drop_everything() -> None:
    """Put everything that is not in use out of memory, for the whole machine; raise UsageError where not permitted."""
    os.sync()
    try:
        _DROP.write_text("3\n", encoding="ascii")
    except OSError as error:
        raise UsageError(
            f"--drop-caches: {_DROP} cannot be written ({error.strerror}); it needs root on a Linux machine"
        ) from None
