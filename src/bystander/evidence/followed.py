"""The main thread's time, followed into the thread or child that it waits for: a program that waits is not empty.

A wait is followed to whoever ended it: the child that ended then, or the thread that ran last before the waiting one
went on (as along a critical path: Yang and Miller 1988). Sleep, disk, devices and far ends of sockets are not followed.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

import numpy as np

from bystander.design import BLOCKED, PYTHON, RUNNING, WAITS, Place, Task
from bystander.evidence.thread_times import ThreadTimes
from bystander.evidence.trees import Tree, like_names

__all__ = ["Followed"]

_LATE_NS = 2_000_000  # from the end of who ended a wait to the waiting one's going on, at most
_CHILD_LATE_NS = 20_000_000  # for an ended child: somebody may have been asked to look after it
_DEEPEST = 8
_MOST_SEARCHES = 2_000_000
_SOMETHING, _LOCK, _PIPE, _CHILD, _EVENTS = (
    WAITS.index(one) for one in ("something", "lock", "pipe", "child", "events")
)
_FOLLOWED = {_SOMETHING, _LOCK, _PIPE, _CHILD, _EVENTS}
_QUEUE = len(WAITS) - 1


class Followed:
    """Adds up where the time of a thread went, by (node, thread, wait).

    Parameters
    ----------
    times : sequence of ThreadTimes
        Of each task.
    node, wait : arrays of int
        Of all readings.
    """

    def __init__(
        self, tasks: Sequence[Task], times: Sequence[ThreadTimes], node: Sequence[int], wait: Sequence[int], tree: Tree
    ) -> None:
        self._tasks, self._times, self._node, self._wait, self._tree = tasks, times, node, wait, tree
        self._began = np.array([task.began_ns for task in tasks])
        self._ended = np.array([task.ended_ns for task in tasks])
        self._searches = 0
        self._names = like_names([task.name for task in tasks])
        self._ends = [one.end[one.state == RUNNING] for one in times]
        self._begins = [one.begin[one.state == RUNNING] for one in times]
        python = [one.kind == PYTHON for one in tree.places]
        self._has_frames = [any(python[tree.place[node[k]]] for k in one.readings[-3:].tolist()) for one in times]
        self.sums: dict[tuple[int, int, int], int] = defaultdict(int)

    def add(self, task: int, begin: int, end: int, above: int = -1, around: tuple[int, ...] = ()) -> None:
        """Add a thread's time from one moment to another.

        Parameters
        ----------
        above : int
            The node below which it is hung.
        around : tuple of int
            Threads that wait for this one already.
        """
        times, sums = self._times[task], self.sums
        if not times.readings.size or not times.begin.size:  # nobody looked at it, or the kernel told nothing of it
            unseen = self._tree.hung(above, self._tree.alone(Place("program", self._tasks[task].name)))
            sums[unseen, task, -1] += max(0, end - begin)
            return
        low, high = (int(one) for one in times.ran_at(np.array([begin, end])))
        good = times.good
        first = int(np.searchsorted(times.to_ns[good], low, "right"))
        last = int(np.searchsorted(times.from_ns[good], high, "left"))
        for k in good[first:last].tolist():
            part = min(int(times.to_ns[k]), high) - max(int(times.from_ns[k]), low)
            sums[self._at(task, k, above), task, -1] += part
        inside = range(int(np.searchsorted(times.end, begin, "right")), int(np.searchsorted(times.begin, end, "left")))
        for k in inside:
            if times.state[k] == RUNNING:
                continue
            b, e = max(begin, int(times.begin[k])), min(end, int(times.end[k]))
            if times.state[k] == BLOCKED:
                self._blocked(task, int(times.of_stretch[k]), b, e, above, around, whole=e == times.end[k])
            else:
                near = int(np.clip(np.searchsorted(times.to_ns[good], times.ran[k]), 0, good.size - 1))
                sums[self._at(task, int(good[near]), above), task, _QUEUE] += e - b

    def _at(self, task: int, reading: int, above: int) -> int:
        return self._tree.hung(above, int(self._node[self._times[task].readings[reading]]))

    def _blocked(
        self, task: int, reading: int, begin: int, end: int, above: int, around: tuple[int, ...], whole: bool
    ) -> None:
        """Add a wait: where it is, or where that was which ended it."""
        node = self._at(task, reading, above)
        wait = int(self._wait[self._times[task].readings[reading]])
        by = self._ended_by(task, wait, begin, end, around) if whole and wait in _FOLLOWED else -1
        if by < 0:
            self.sums[node, task, wait] += end - begin
            return
        since = max(begin, int(self._began[by]))
        until = min(end, int(self._ended[by]))
        self.sums[node, task, wait] += (since - begin) + (end - until)
        own = self._tasks[by].process == self._tasks[task].process
        mark = node
        if own or self._has_frames[by]:
            mark = self._tree.under(node, Place("thread" if own else "child", self._names[by]))
        self.add(by, since, until, mark, (*around, task))

    def _ended_by(self, task: int, wait: int, begin: int, end: int, around: tuple[int, ...]) -> int:
        """Return the thread that ended a wait; -1 where none of the program's did."""
        if len(around) >= _DEEPEST or self._searches > _MOST_SEARCHES:
            return -1
        alive = np.flatnonzero((self._began < end) & (self._ended > begin))
        mine = self._tasks[task].process
        best, when, longest = -1, -1, -1
        for one in alive.tolist():
            other = self._tasks[one]
            if one == task or one in around or (wait == _LOCK and other.process != mine):
                continue
            if wait == _CHILD and (other.process == mine or other.thread != other.process):
                continue
            self._searches += 1
            if wait == _CHILD:
                last = int(self._ended[one]) if end - _CHILD_LATE_NS <= self._ended[one] <= end else -1
            else:
                k = int(np.searchsorted(self._begins[one], end)) - 1
                last = min(end, int(self._ends[one][k])) if k >= 0 else -1
                if last < max(begin, end - _LATE_NS):
                    last = -1
            if last < 0 or last < when:
                continue
            ran = float(np.diff(self._times[one].ran_at(np.array([begin, end])))[0])
            if last > when or ran > longest:
                best, when, longest = one, last, int(ran)
        return best
