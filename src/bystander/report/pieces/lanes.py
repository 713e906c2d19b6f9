"""Trials over time: the threads of each arm under each other on one axis, what they marked as bars."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from bystander.design import Timeline
from bystander.report.theme import PHASE_TINTS
from bystander.units import counted, duration_text, share_text

__all__ = ["BAR", "CHART", "ROW", "Band", "Instances", "Lanes", "TrialSide", "lanes"]

ROW, BAR, CHART = 24, 17, 120  # heights in pixels: of a row of bars, of a bar, of a chart of samples
_LEAST = 0.12  # percent of the axis below which bars are not told apart
_MOST_ROWS = 10
_GROUND = 1000  # the width of the ground of a chart, which is drawn as wide as there is room


@dataclass(frozen=True)
class TrialSide:
    """The trial of one arm.

    Attributes
    ----------
    heading : str
        How it ended and how long it took, in words.
    timeline : Timeline or None
    samples_s : sequence of float
        Of a callable: the time of an iteration in each sample, in the order in which they were taken.
    warm : int
        From which sample on they count.
    reading_s : float
        Their median.
    """

    arm: str
    heading: str
    timeline: Timeline | None = None
    samples_s: Sequence[float] = ()
    warm: int = 0
    reading_s: float = 0.0


@dataclass(frozen=True)
class Instances:
    """One instance of a phase, or several that are too short to be told apart.

    Attributes
    ----------
    left, width : float
        In percent of the axis.
    top, filled : float
        In pixels: where it begins in its band, and how much of its height is filled, which is its share of time on
        a processor.
    known : bool
        Whether that share was read.
    tint : int
        Which of the tints.
    begin_ns, end_ns, wall_ns : int
        From the start of the trial; and the time of all instances together.
    """

    left: float
    width: float
    top: float
    filled: float
    known: bool
    tint: int
    phase: str
    text: str
    tip: str
    unended: bool
    count: int
    begin_ns: int
    end_ns: int
    wall_ns: int


@dataclass(frozen=True)
class Band:
    """One thread, or one chart of samples.

    Attributes
    ----------
    height : float
        In pixels.
    points, cold : str
        Of a chart: paths of points of no length on a ground of 1000 by its height; cold ones are not counted.
    level : float
        Of a chart: the height of the reading.
    text : str
        The same in words.
    """

    title: str
    height: float
    text: str
    bars: tuple[Instances, ...] = ()
    points: str = ""
    cold: str = ""
    level: float = 0.0
    top_text: str = ""
    foot_text: str = ""

    @property
    def is_chart(self) -> bool:
        """Whether it shows samples, not phases."""
        return bool(self.points or self.cold)


@dataclass(frozen=True)
class LaneSide:
    """One arm: what its trial was, and its bands."""

    heading: str
    bands: tuple[Band, ...]


@dataclass(frozen=True)
class Cell:
    """A phase of a trial in numbers."""

    instances: int
    whole: str
    on_processor: str


@dataclass(frozen=True)
class Lanes:
    """The picture.

    Attributes
    ----------
    length_ns : int
        Of the axis, from 0.
    ticks : tuple of (float, str)
        Places in percent, and labels.
    key : tuple of (int, str)
        Tints and phases.
    waits, unread : bool
        Whether some phases' time on a processor was read, and whether some was not.
    arms : tuple of str
    table : tuple of (str, tuple of Cell or None)
        Each phase in numbers, for each arm.
    """

    sides: tuple[LaneSide, ...]
    length_ns: int
    ticks: tuple[tuple[float, str], ...]
    key: tuple[tuple[int, str], ...]
    waits: bool
    unread: bool
    arms: tuple[str, ...]
    table: tuple[tuple[str, tuple[Cell | None, ...]], ...]

    @property
    def charts(self) -> bool:
        """Whether it shows samples."""
        return any(band.is_chart for side in self.sides for band in side.bands)


def lanes(sides: Sequence[TrialSide]) -> Lanes:
    """Return the picture of a block's trials."""
    lines = [side.timeline for side in sides if side.timeline is not None and len(side.timeline)]
    longest = max([1, *(max(line.length_ns, int(line.end_ns.max())) for line in lines)])
    names = list(dict.fromkeys(name for line in lines for name in line.names))
    tints = {name: i % len(PHASE_TINTS) for i, name in enumerate(names)}
    most = max([max(side.samples_s) for side in sides if side.samples_s] or [0.0])
    drawn = []
    for side in sides:
        bands = _bands(side.timeline, longest, tints) if side.timeline is not None and len(side.timeline) else []
        bands += [_chart(side, most)] if side.samples_s else []
        drawn.append(LaneSide(f"{side.arm}: {side.heading}", tuple(bands)))
    ticks = tuple((round(tick / longest * 100, 2), duration_text(tick / 1e9, 2)) for tick in _ticks(longest))
    return Lanes(
        tuple(drawn), longest, ticks if lines else (), tuple((tints[name], name) for name in names),
        any((line.cpu_ns >= 0).any() for line in lines), any((line.cpu_ns < 0).any() for line in lines),
        tuple(side.arm for side in sides), _table(sides),
    )  # fmt: skip


def _ticks(longest: int) -> list[float]:
    """Return round times from 0 to the longest, about six."""
    rough = longest / 6
    power = 10 ** math.floor(math.log10(rough))
    step = next(power * factor for factor in (1, 2, 5, 10) if power * factor >= rough)
    return [i * step for i in range(math.floor(longest / step) + 1)]


def _bands(line: Timeline, longest: int, tints: dict[str, int]) -> list[Band]:
    """Return one band for each thread, by process, in the order in which they began."""
    first = {lane: int(line.begin_ns[line.lane == lane].min()) for lane in np.unique(line.lane).tolist()}
    processes: dict[int, int] = {}
    for lane in sorted(first, key=first.__getitem__):
        processes.setdefault(line.lanes[lane].process, len(processes) + 1)
    found = []
    for lane in sorted(first, key=lambda lane: (processes[line.lanes[lane].process], first[lane])):
        about = line.lanes[lane]
        mine = np.flatnonzero(line.lane == lane)
        rows = _rows(line, mine)
        count = min(_MOST_ROWS, int(rows.max()) + 1)
        head = f"process {processes[about.process]}" if len(processes) > 1 else ""
        head = " · ".join(part for part in (head, about.title) if part) or "phases"
        bars = _bars(line, mine, np.minimum(rows, count - 1), longest, tints)
        told = f"{head}: {counted(mine.size, 'instance')} of {counted(np.unique(line.name[mine]).size, 'phase')}"
        found.append(Band(head, count * ROW, told, tuple(bars)))
    return found


def _rows(line: Timeline, mine: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return a row for each instance of a lane: below the one around it, and beside what runs at the same time."""
    rows = dict.fromkeys(mine.tolist(), 0)
    free_from: list[int] = []
    order = mine[np.lexsort((-line.end_ns[mine], line.begin_ns[mine]))]
    begins, ends, around = line.begin_ns.tolist(), line.end_ns.tolist(), line.around.tolist()
    for i in order.tolist():
        row = rows[around[i]] + 1 if around[i] in rows else 0
        while row < len(free_from) and free_from[row] > begins[i] and row < _MOST_ROWS:
            row += 1
        while len(free_from) <= row:
            free_from.append(0)
        free_from[row] = ends[i]
        rows[i] = row
    return np.array([rows[i] for i in mine.tolist()])


def _bars(
    line: Timeline, mine: NDArray[np.int64], rows: NDArray[np.int64], longest: int, tints: dict[str, int]
) -> list[Instances]:
    """Return what is drawn of a lane; instances so short that they cannot be told apart are one bar."""
    bars = []
    for row in np.unique(rows).tolist():
        members = mine[rows == row]
        members = members[np.argsort(line.begin_ns[members], kind="stable")]
        left = np.maximum(0, line.begin_ns[members]) / longest * 100
        right = line.end_ns[members] / longest * 100
        small = right - left < _LEAST
        alike = (line.name[members][1:] == line.name[members][:-1]) & (left[1:] - right[:-1] < _LEAST)
        cuts = np.concatenate([[0], np.flatnonzero(~(small[1:] & small[:-1] & alike)) + 1, [members.size]])
        for start, stop in pairwise(cuts.tolist()):
            ends = float(left[start]), float(right[stop - 1])
            bars.append(_instances(line, members[start:stop], ends, row * ROW, tints))
    return bars


def _instances(
    line: Timeline, group: NDArray[np.int64], ends: tuple[float, float], top: float, tints: dict[str, int]
) -> Instances:
    name, wall = line.names[line.name[group[0]]], int((line.end_ns[group] - line.begin_ns[group]).sum())
    label = line.labels[line.label[group[0]]]
    known = bool((line.cpu_ns[group] >= 0).all())
    share = min(1.0, float(line.cpu_ns[group].sum()) / wall) if known and wall else 1.0
    called = f"{name} {label}".strip() if group.size == 1 else f"{group.size} times {name}"
    unended = bool(line.unended[group].any())
    tip = f"{called}: {duration_text(wall / 1e9)}"
    tip += f", of which {share_text(share)} on a processor" if known and wall else ""
    tip += ", never ended" if unended else ""
    return Instances(
        round(ends[0], 3), round(max(0.06, ends[1] - ends[0]), 3), top, round(BAR * share, 1), known, tints[name], name,
        called, tip, unended, int(group.size), int(line.begin_ns[group].min()), int(line.end_ns[group].max()), wall,
    )  # fmt: skip


def _chart(side: TrialSide, most: float) -> Band:
    """Return the samples of a callable, one dot each, from left to right in the order in which they were taken."""
    count = len(side.samples_s)
    dots = [f"M{(i + 0.5) / count * _GROUND:.0f} {_height(value, most):g}h0" for i, value in enumerate(side.samples_s)]
    foot = f"{count} samples; the first {side.warm}, hollow, are not counted" if side.warm else f"{count} samples"
    text = f"{foot}; from {duration_text(min(side.samples_s))} to {duration_text(max(side.samples_s))} an iteration"
    return Band(
        "an iteration", CHART, text, (), "".join(dots[side.warm :]), "".join(dots[: side.warm]),
        _height(side.reading_s, most), f"up to {duration_text(most)}", foot,
    )  # fmt: skip


def _height(value: float, most: float) -> float:
    return round(CHART - value / most * (CHART - 8), 1) if most else float(CHART)


def _table(sides: Sequence[TrialSide]) -> tuple[tuple[str, tuple[Cell | None, ...]], ...]:
    """Return each phase with what it took in each arm, in the order in which phases were first told."""
    lines = [side.timeline for side in sides]
    names = list(dict.fromkeys(name for line in lines if line is not None for name in line.names))
    return tuple((name, tuple(_cell(line, name) for line in lines)) for name in names)


def _cell(line: Timeline | None, name: str) -> Cell | None:
    if line is None or name not in line.names:
        return None
    mine = line.name == line.names.index(name)
    wall = line.end_ns[mine] - line.begin_ns[mine]
    known = (line.cpu_ns[mine] >= 0).all() and wall.sum() > 0
    share = share_text(min(1.0, float(line.cpu_ns[mine].sum() / wall.sum()))) if known else "not read"
    return Cell(int(mine.sum()), duration_text(float(wall.sum()) / 1e9), share)
