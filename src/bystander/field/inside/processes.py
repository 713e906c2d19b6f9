"""Trees of processes, and how all of one is ended.  Standard library only: the launcher loads it by path."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Callable, Collection


def fields_of(process: int) -> list[bytes]:
    """Return what `/proc/PID/stat` tells from the state on (proc(5): field 3 and after); nothing where it is gone."""
    try:
        with open("/proc/%d/stat" % process, "rb") as f:
            return f.read().rsplit(b")", 1)[1].split()
    except (OSError, IndexError):
        return []


def all_of() -> list[int]:
    """Return the process ids of all that this process can see."""
    return [int(name) for name in os.listdir("/proc") if name.isdigit()] if os.path.isdir("/proc") else []


def children_of_all() -> dict[int, list[int]]:
    """Return, by process, the processes below it that are neither zombies nor gone."""
    children: dict[int, list[int]] = {}
    for process in all_of():
        fields = fields_of(process)
        if fields and fields[0] not in (b"Z", b"X"):
            children.setdefault(int(fields[1]), []).append(process)
    return children


def below(process: int, spared: Collection[int] = ()) -> list[int]:
    """Return the process ids of everything below a process, but for children that are spared with what is below."""
    children = children_of_all()
    found: list[int] = []
    waiting = [child for child in children.get(process, []) if child not in spared]
    while waiting:
        one = waiting.pop()
        found.append(one)
        waiting += children.get(one, [])
    return found


def forget_own_peak() -> None:
    """Set this process's high-water mark back to what it holds now: it is the floor of every child's."""
    try:
        with open("/proc/self/clear_refs", "w") as f:
            f.write("5")
    except OSError:
        pass


def own_peak_bytes() -> int:
    """Return this process's high-water mark, or -1."""
    try:
        with open("/proc/self/status") as f:
            for line in f:
                if line.startswith("VmHWM:"):
                    return int(line.split()[1]) * 1024
    except (OSError, ValueError):
        pass
    return -1


def run_queue_ns(pid: int) -> tuple[int, int]:
    """Return (time on CPU, time in the run queue) of a zombie's main thread, or (-1, -1)."""
    try:
        with open("/proc/%d/schedstat" % pid) as f:
            on_cpu, queued = f.read().split()[:2]
        return int(on_cpu), int(queued)
    except (OSError, ValueError):
        return -1, -1


def kill(pid: int, group: bool = False) -> None:
    """Send SIGKILL to a process or its group, if it is still there."""
    try:
        (os.killpg if group else os.kill)(pid, signal.SIGKILL)
    except (ProcessLookupError, PermissionError):
        pass


def end_all(alive: Callable[[], list[int]], reap: Callable[[], bool], seconds: float = 5.0) -> int:
    """End processes, also those that start while we look; return how many.

    `alive` returns those that are there; `reap` reaps what has ended and says whether any child is left.
    """
    ended: set[int] = set()
    give_up = time.monotonic() + seconds
    while reap() and time.monotonic() < give_up:
        found = alive()
        for pid in found:
            kill(pid)
        ended.update(found)
        time.sleep(0.001 if found else 0.0005)
    return len(ended)
