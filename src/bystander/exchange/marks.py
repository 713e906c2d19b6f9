"""What programs tell of themselves while they run, line by line; see docs/marks.md for the format."""

from __future__ import annotations

import base64
from collections import Counter
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from bystander.design import BROKEN, OUTSIDE, UNBEGUN, UNENDED, Lane, Marks, Timeline
from bystander.units import base_unit

__all__ = ["Spans", "identity", "read_marks"]

Integers = NDArray[np.int64]
_WALL_NS = 10**18  # larger times are on the wall clock: no machine runs for thirty years
_MOST_NS = 2**62
_SIDES = ("less", "more", "")
_MOST_LETTERS = 500  # of a name
_LARGEST = 1e100  # beyond, squares and ratios of it are no numbers


@dataclass
class Spans:
    """Instances of phases as they are gathered, one list a column; times in ns on the monotonic clock."""

    begin: list[int] = field(default_factory=list)
    end: list[int] = field(default_factory=list)  # -1 where it never ended
    cpu: list[int] = field(default_factory=list)
    name: list[int] = field(default_factory=list)
    label: list[int] = field(default_factory=list)
    lane: list[int] = field(default_factory=list)
    own: list[object] = field(default_factory=list)  # by what others name it as the one around; 0 for nothing
    around: list[object] = field(default_factory=list)
    names: dict[str, int] = field(default_factory=dict)
    labels: dict[str, int] = field(default_factory=lambda: {"": 0})
    lanes: dict[tuple[int, int], int] = field(default_factory=dict)
    titles: dict[tuple[int, int], str] = field(default_factory=dict)

    def add(
        self, begin: int, end: int, name: str, label: str = "", process: int = 0, thread: int = 0, cpu: int = -1,
        own: object = 0, around: object = 0,
    ) -> None:  # fmt: skip
        """Add one instance; raise ValueError when it lies beyond all clocks, or its name is none."""
        if not (abs(begin) < _MOST_NS and abs(end) < _MOST_NS):
            raise ValueError(f"a time of {name} is beyond all clocks")
        if len(name) > _MOST_LETTERS or len(label) > _MOST_LETTERS:
            raise ValueError("a name is too long")
        self.begin.append(begin)
        self.end.append(end)
        self.cpu.append(cpu)
        self.name.append(self.names.setdefault(name, len(self.names)))
        self.label.append(self.labels.setdefault(label, len(self.labels)))
        self.lane.append(self.lanes.setdefault((process, thread), len(self.lanes)))
        self.own.append(own)
        self.around.append(around)

    def add_many(
        self, begin: Integers, end: Integers, cpu: Integers, name: str, label: str, process: int, thread: int
    ) -> None:
        """Add many instances of one name and label on one thread."""
        self.begin += begin.tolist()
        self.end += end.tolist()
        self.cpu += cpu.tolist()
        self.name += [self.names.setdefault(name, len(self.names))] * begin.size
        self.label += [self.labels.setdefault(label, len(self.labels))] * begin.size
        self.lane += [self.lanes.setdefault((process, thread), len(self.lanes))] * begin.size
        self.own += [0] * begin.size
        self.around += [0] * begin.size

    def timeline(self, started_ns: int, length_ns: int, problems: Counter[str]) -> Timeline:
        """Return them from the trial's start; one that never ended ends with the trial.

        The one around each is left open where the instance does not name it: -2.
        """
        begin, end = np.array(self.begin, dtype=np.int64), np.array(self.end, dtype=np.int64)
        unended = end < 0
        begin, end = begin - started_ns, np.where(unended, length_ns, end - started_ns)
        end = np.maximum(begin, end)
        slack = max(1_000_000, length_ns // 100)
        outside = int(np.count_nonzero((begin < -slack) | (end > length_ns + slack)))
        for problem, count in ((UNENDED, int(np.count_nonzero(unended))), (OUTSIDE, outside)):
            if count:
                problems[problem] += count
        at = {own: i for i, own in enumerate(self.own) if own}
        around = [at.get(one, -1) if own else -2 for own, one in zip(self.own, self.around, strict=True)]
        lanes = tuple(Lane(process, thread, self.titles.get((process, thread), "")) for process, thread in self.lanes)
        cpu, name, label, lane, inside = (
            np.array(column, dtype=np.int64) for column in (self.cpu, self.name, self.label, self.lane, around)
        )
        return Timeline(
            tuple(self.names), tuple(self.labels), lanes, begin, end, cpu, name, label, lane, inside, unended, length_ns
        )


class _Reader:
    """Reads lines one after another."""

    def __init__(self, wall_offset_ns: int) -> None:
        self.spans = Spans()
        self.readings: dict[str, tuple[float, str, str]] = {}
        self.items: dict[str, float] = {}
        self.intervals: dict[str, list[float]] = {}
        self.deadlines: dict[str, float] = {}
        self.costs: dict[int, int] = {}
        self.problems: Counter[str] = Counter()
        self._offset = wall_offset_ns
        self._open: dict[tuple[str, str, int, int], list[tuple[int, object, object]]] = {}
        self.kinds = {
            "phase": self._phase,
            "phases": self._phases,
            "begin": self._begin,
            "end": self._end,
            "thread": self._thread,
            "cost": self._cost,
            "reading": self._reading,
            "items": self._items,
            "interval": self._interval,
            "deadline": self._deadline,
        }

    def _time(self, word: str) -> int:
        at = int(word)
        if not 0 <= at < _MOST_NS:
            raise ValueError(word)
        return at - self._offset if at >= _WALL_NS else at

    def _phase(self, begin: str, took: str, name: str, label: str = "", process: str = "0", thread: str = "0",
               cpu: str = "-1", own: str = "0", around: str = "0") -> None:  # fmt: skip
        if not name or not 0 <= int(took) < _MOST_NS or not -1 <= int(cpu) < _MOST_NS:
            raise ValueError(name)
        at = self._time(begin)
        where = identity(process), identity(thread)
        self.spans.add(at, at + int(took), name, label, *where, int(cpu), int(own), int(around))

    def _phases(self, name: str, label: str, process: str, thread: str, packed: str) -> None:
        """Many of one name and label: begin, length and CPU time of each."""
        table = np.frombuffer(base64.b64decode(packed, validate=True), "<i8").reshape(-1, 3)
        begin, took, cpu = table.T
        if not name or (begin < 0).any() or (took < 0).any() or (cpu < -1).any() or (table >= _MOST_NS).any():
            raise ValueError(name)
        begin = np.where(begin >= _WALL_NS, begin - self._offset, begin)
        self.spans.add_many(begin, begin + took, cpu, name, label, identity(process), identity(thread))

    def _begin(self, at: str, name: str, label: str = "", process: str = "0", thread: str = "0",
               own: str = "0", around: str = "0") -> None:  # fmt: skip
        if len(label) > _MOST_LETTERS:
            raise ValueError("a label is too long")
        key = _name(name), label, identity(process), identity(thread)
        self._open.setdefault(key, []).append((self._time(at), int(own), int(around)))

    def _end(self, at: str, name: str, label: str = "", process: str = "0", thread: str = "0") -> None:
        key = name, label, identity(process), identity(thread)
        if not self._open.get(key):
            self.problems[UNBEGUN] += 1
            return
        begin, own, around = self._open[key].pop()
        self.spans.add(begin, max(begin, self._time(at)), *key, own=own, around=around)

    def _thread(self, process: str, thread: str, title: str) -> None:
        self.spans.titles[identity(process), identity(thread)] = title[:_MOST_LETTERS]

    def _cost(self, process: str, one_ns: str) -> None:
        cost = int(one_ns)
        if not 0 <= cost < _MOST_NS:
            raise ValueError(one_ns)
        self.costs[identity(process)] = cost

    def _reading(self, name: str, value: str, unit: str = "", better: str = "less") -> None:
        if not name or better not in _SIDES:
            raise ValueError(better)
        factor, base = base_unit(unit[:_MOST_LETTERS])
        self.readings[_name(name)] = _bounded(_number(value) * factor), base, better

    def _items(self, name: str, count: str) -> None:
        self.items[_name(name)] = _bounded(self.items.get(name, 0.0) + _number(count))

    def _interval(self, name: str, seconds: str) -> None:
        value = _number(seconds)
        self.intervals.setdefault(_name(name), []).append(value)

    def _deadline(self, name: str, seconds: str) -> None:
        self.deadlines[_name(name)] = _number(seconds)

    def leave_open(self) -> None:
        """Take phases that were begun and never ended as they are."""
        for key, begun in self._open.items():
            for begin, own, around in begun:
                self.spans.add(begin, -1, *key, own=own, around=around)


def _number(word: str) -> float:
    return _bounded(float(word))


def _bounded(value: float) -> float:
    if not abs(value) <= _LARGEST:
        raise ValueError(f"{value} is beyond all numbers")
    return value


def _name(word: str) -> str:
    if not word or len(word) > _MOST_LETTERS:
        raise ValueError("a name is none, or too long")
    return word


def identity(word: object) -> int:
    """Return the number of a process or thread; raise ValueError for what is none."""
    number = int(word)  # type: ignore[call-overload]
    if not -_MOST_NS < number < _MOST_NS:
        raise ValueError("a process or thread of no number")
    return int(number)


def read_marks(data: bytes, started_ns: int, length_ns: int, wall_offset_ns: int, spans: Spans | None = None) -> Marks:
    """Return what the lines of a trial tell; a line that says nothing is counted, and a torn last one left out.

    Parameters
    ----------
    started_ns, length_ns : int
        When the trial started on the monotonic clock, and how long it took.
    wall_offset_ns : int
        Wall time less monotonic time.
    spans : Spans, optional
        Instances that came another way, to which those of the lines are added.

    Returns
    -------
    Marks
        In its timeline `around` is -2 where the instance around is to be found from the times.
    """
    reader = _Reader(wall_offset_ns)
    reader.spans = spans or reader.spans
    lines = data.decode("utf-8", "replace").split("\n")
    if lines.pop():
        reader.problems[BROKEN] += 1  # the end of the file, torn off
    for line in lines:
        kind, *words = line.split("\t")
        take = reader.kinds.get(kind)
        try:
            if take is not None:
                take(*words)  # type: ignore[operator]
            elif line:
                reader.problems[BROKEN] += 1
        except (ValueError, TypeError, OverflowError):
            reader.problems[BROKEN] += 1
    reader.leave_open()
    timeline = reader.spans.timeline(started_ns, length_ns, reader.problems)
    by_process = Counter(timeline.lanes[lane].process for lane in timeline.lane.tolist())
    return Marks(
        timeline,
        reader.readings,
        reader.items,
        {name: np.array(values) for name, values in reader.intervals.items()},
        reader.deadlines,
        float(sum(reader.costs.get(process, 0) * count for process, count in by_process.items())),
        dict(reader.problems),
    )
