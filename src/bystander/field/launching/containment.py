"""Ends what a trial started when its launcher can no longer do it: by a control group, and as a second subreaper."""

from __future__ import annotations

import ctypes
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from bystander.field.inside.processes import all_of, below, children_of_all, end_all, fields_of, kill

__all__ = ["ControlGroup", "Orphans", "end_process", "state_of"]

_SET_SUBREAPER, _GET_SUBREAPER = 36, 37
_NAME = re.compile(r"bystander-(\d*)-(\d+)-(\d+)-\d+")


def state_of(process: int) -> str:
    """Return the letter by which the kernel tells a process's state; "" where it is gone."""
    return b"".join(fields_of(process)[:1]).decode(errors="replace")


def _started(process: int) -> str:
    """Return when a process started, in the kernel's ticks since its own start; "" where it is gone."""
    return b"".join(fields_of(process)[19:20]).decode(errors="replace")


def _namespace() -> str:
    """Return the number of the name space in which processes have their numbers: a container has one of its own."""
    try:
        return str(Path("/proc/self/ns/pid").stat().st_ino)
    except OSError:
        return ""


class Orphans:
    """While entered, what a dead launcher leaves becomes this process's, and can be ended here."""

    def __init__(self) -> None:
        self._spared: frozenset[int] = frozenset()

    @contextmanager
    def adopted(self) -> Iterator[Orphans]:
        """Be a subreaper; children that are there already are nobody's orphans."""
        self._spared = frozenset(children_of_all().get(os.getpid(), ()))
        before = _subreaper()
        _be_subreaper(True)
        try:
            yield self
        finally:
            _be_subreaper(before)

    def end(self, known: list[int]) -> int:
        """End all children that came since, with what is below, and processes that are known; return how many."""
        reaped = False

        def reap() -> bool:
            """Reap what has ended; nothing is left once a look after that found nothing."""
            nonlocal reaped
            for child in _zombies(self._spared):
                with suppress(OSError):
                    os.waitpid(child, os.WNOHANG)
            before, reaped = reaped, True
            return not before or bool(alive())

        def alive() -> list[int]:
            mine = below(os.getpid(), self._spared)
            return mine + [pid for pid in known if pid not in mine and state_of(pid) not in ("", "Z", "X")]

        return end_all(alive, reap)


def _zombies(spared: frozenset[int]) -> list[int]:
    """Return the children of this process that have ended and wait to be reaped."""
    mine = [b"Z", b"%d" % os.getpid()]
    return [process for process in all_of() if process not in spared and fields_of(process)[:2] == mine]


def _subreaper() -> bool:
    now = ctypes.c_int(0)
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_GET_SUBREAPER, ctypes.byref(now), 0, 0, 0)
    return bool(now.value)


def _be_subreaper(whether: bool) -> None:
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_SET_SUBREAPER, int(whether), 0, 0, 0)


class ControlGroup:
    """A control group of the launcher and all that it starts, where this user may make one; else nothing happens."""

    def __init__(self) -> None:
        self._folder: Path | None = None

    def hold(self, process: int) -> None:
        """Put a process into a group of its own: what it starts from now on is in there too."""
        place = _own_place()
        if place is None:
            return
        _end_leftovers(place)
        folder = place / f"bystander-{_namespace()}-{os.getpid()}-{_started(os.getpid())}-{process}"
        try:
            folder.mkdir(mode=0o700)
            if not (folder / "cgroup.kill").exists():
                raise OSError("a kernel of before 5.14")
            (folder / "cgroup.procs").write_text(str(process))
        except OSError:
            with suppress(OSError):
                folder.rmdir()
            return
        self._folder = folder

    def kill(self) -> None:
        """End everything in it at once."""
        if self._folder:
            with suppress(OSError):
                (self._folder / "cgroup.kill").write_text("1")

    def close(self) -> None:
        """Remove it, once it is empty."""
        if self._folder:
            with suppress(OSError):
                self._folder.rmdir()
            self._folder = None


def _own_place() -> Path | None:
    """Return the folder of this process's own group in the unified hierarchy, None where there is none."""
    try:
        mounts = [line.split() for line in Path("/proc/self/mountinfo").read_text().splitlines()]
        mounted = next(fields[4] for fields in mounts if fields[fields.index("-") + 1] == "cgroup2")
        lines = Path("/proc/self/cgroup").read_text().splitlines()
        mine = next(line[3:] for line in lines if line.startswith("0::"))
    except (OSError, StopIteration, IndexError, ValueError):
        return None
    place = Path(mounted) / mine.lstrip("/")
    return place if os.access(place, os.W_OK) else None


def _end_leftovers(place: Path) -> None:
    """End what a Bystander that is gone left running in a group of its own."""
    for folder in place.glob("bystander-*"):
        match = _NAME.fullmatch(folder.name)
        if match and match[1] == _namespace() and _started(int(match[2])) != match[3]:
            with suppress(OSError):
                (folder / "cgroup.kill").write_text("1")
            with suppress(OSError):
                folder.rmdir()


def end_process(process: int) -> list[int]:
    """End a process that no longer answers and return what was below it, which may live on."""
    known = below(process)
    kill(process)
    return known
