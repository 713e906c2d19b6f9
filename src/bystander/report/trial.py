"""One trial over time: the arms of a block under each other, on one time axis."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from bystander.design import Timeline
from bystander.report.environment import page_parts, template_environment
from bystander.report.theme import PHASE_TINTS
from bystander.units import duration_text, share_text

__all__ = ["TrialSide", "trial_page", "trial_svg"]

_LEFT, _PLOT, _TOP, _ROW, _BAR, _HEAD, _GAP = 180, 980, 58, 24, 17, 26, 12
_LEAST_PX, _LETTER_PX = 1.2, 6.6
_MOST_ROWS = 10
_CHART = 120


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
class _Bar:
    """One instance, or several that are too short to be told apart; pixels."""

    x: float
    y: float
    width: float
    height: float
    filled: float
    known: bool
    colour: str
    text: str
    tip: str
    unended: bool


@dataclass(frozen=True)
class _Band:
    """One arm, one thread, or one chart of samples."""

    y: float
    height: float
    head: str
    title: str
    bars: tuple[_Bar, ...] = ()
    points: tuple[tuple[float, float, bool], ...] = ()
    level: float = 0.0
    top_text: str = ""
    foot_text: str = ""


@dataclass(frozen=True)
class _Picture:
    title: str
    width: int
    height: float
    left: int
    right: int
    top: int
    ticks: tuple[tuple[float, str], ...]
    bands: tuple[_Band, ...]
    key: tuple[tuple[str, str], ...]
    waits: bool
    unread: bool


def trial_svg(title: str, sides: Sequence[TrialSide]) -> str:
    """Return the picture of one block's trials as an SVG document."""
    return template_environment().get_template("trial.svg").render(p=_picture(title, sides))


def trial_page(title: str, sides: Sequence[TrialSide], notes: Sequence[str]) -> str:
    """Return a self-contained page with the picture and, below it, each phase in numbers.

    Parameters
    ----------
    notes : sequence of str
        Sentences about the record.
    """
    environment = template_environment()
    return environment.get_template("trial.html").render(
        p=_picture(title, sides), sides=sides, rows=_table(sides), notes=notes,
        **page_parts(environment, "trial.css"),
    )  # fmt: skip


def _picture(title: str, sides: Sequence[TrialSide]) -> _Picture:
    lines = [side.timeline for side in sides if side.timeline is not None and len(side.timeline)]
    longest = max([1, *(max(line.length_ns, int(line.end_ns.max())) for line in lines)])
    names = list(dict.fromkeys(name for line in lines for name in line.names))
    tints = {name: PHASE_TINTS[i % len(PHASE_TINTS)] for i, name in enumerate(names)}
    y, bands = float(_TOP), []
    most = max([max(side.samples_s) for side in sides if side.samples_s] or [0.0])
    for side in sides:
        bands.append(_Band(y, _HEAD, side.arm, f"{side.arm}: {side.heading}"))
        y += _HEAD
        if side.timeline is not None and len(side.timeline):
            for band in _lanes(side.timeline, longest, tints, y):
                bands.append(band)
                y = band.y + band.height + 4
        if side.samples_s:
            bands.append(_chart(side, most, y))
            y += _CHART + 22
        y += _GAP
    ticks = tuple((_x(tick, longest), duration_text(tick / 1e9, 2)) for tick in _ticks(longest)) if lines else ()
    return _Picture(
        title, _LEFT + _PLOT + 30, y + 34, _LEFT, _LEFT + _PLOT, _TOP, ticks, tuple(bands),
        tuple((tints[name], name) for name in names), any((line.cpu_ns >= 0).any() for line in lines),
        any((line.cpu_ns < 0).any() for line in lines),
    )  # fmt: skip


def _x(at_ns: float, longest: int) -> float:
    return round(_LEFT + max(0.0, at_ns) / longest * _PLOT, 2)


def _ticks(longest: int) -> list[float]:
    """Return round times from 0 to the longest, about eight."""
    rough = longest / 8
    power = 10 ** math.floor(math.log10(rough))
    step = next(power * factor for factor in (1, 2, 5, 10) if power * factor >= rough)
    return [i * step for i in range(math.floor(longest / step) + 1)]


def _lanes(line: Timeline, longest: int, tints: dict[str, str], y: float) -> list[_Band]:
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
        bars = _bars(line, mine, np.minimum(rows, count - 1), longest, tints, y)
        found.append(_Band(y, count * _ROW, "", head, tuple(bars)))
        y += count * _ROW + 4
    return found


def _rows(line: Timeline, mine: np.ndarray) -> np.ndarray:
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
    line: Timeline, mine: np.ndarray, rows: np.ndarray, longest: int, tints: dict[str, str], y: float
) -> list[_Bar]:
    """Return what is drawn of a lane; instances that lie within a pixel of each other are one bar."""
    bars = []
    for row in np.unique(rows).tolist():
        members = mine[rows == row]
        members = members[np.argsort(line.begin_ns[members], kind="stable")]
        left = _LEFT + np.maximum(0, line.begin_ns[members]) / longest * _PLOT
        right = _LEFT + line.end_ns[members] / longest * _PLOT
        small = right - left < _LEAST_PX
        alike = (line.name[members][1:] == line.name[members][:-1]) & (left[1:] - right[:-1] < _LEAST_PX)
        cuts = np.concatenate([[0], np.flatnonzero(~(small[1:] & small[:-1] & alike)) + 1, [members.size]])
        for start, stop in pairwise(cuts.tolist()):
            bars.append(_bar(line, members[start:stop], left[start], right[stop - 1], y + row * _ROW, tints))
    return bars


def _bar(line: Timeline, group: np.ndarray, left: float, right: float, y: float, tints: dict[str, str]) -> _Bar:
    name, wall = line.names[line.name[group[0]]], int((line.end_ns[group] - line.begin_ns[group]).sum())
    label = line.labels[line.label[group[0]]]
    known = bool((line.cpu_ns[group] >= 0).all())
    share = min(1.0, float(line.cpu_ns[group].sum()) / wall) if known and wall else 1.0
    called = f"{name} {label}".strip() if group.size == 1 else f"{group.size} times {name}"
    unended = bool(line.unended[group].any())
    width = max(0.6, right - left)
    tip = f"{called}: {duration_text(wall / 1e9)}"
    tip += f", of which {share_text(share)} on a processor" if known and wall else ""
    tip += ", never ended" if unended else ""
    room = int((width - 8) / _LETTER_PX)
    shorter = [text for text in (called, name, label) if text and len(text) <= room and group.size == 1]
    text = shorter[0] if shorter else called[: room - 1] + "…" if room >= 4 else ""
    return _Bar(
        round(float(left), 2), round(y, 1), round(float(width), 2), _BAR, round(_BAR * share, 1), known, tints[name],
        text, tip, unended,
    )  # fmt: skip


def _chart(side: TrialSide, most: float, y: float) -> _Band:
    """Return the samples of a callable, one dot each, from left to right in the order in which they were taken."""
    count = len(side.samples_s)
    points = tuple(
        (
            round(_LEFT + (i + 0.5) / count * _PLOT, 1),
            round(y + _CHART - value / most * (_CHART - 8), 1) if most else y,
            i >= side.warm,
        )
        for i, value in enumerate(side.samples_s)
    )
    level = round(y + _CHART - side.reading_s / most * (_CHART - 8), 1) if most else y
    foot = f"{count} samples; the first {side.warm}, hollow, are not counted" if side.warm else f"{count} samples"
    return _Band(y, _CHART, "", "an iteration", (), points, level, f"up to {duration_text(most)}", foot)


@dataclass(frozen=True)
class _Cell:
    instances: int
    whole: str
    on_processor: str


def _table(sides: Sequence[TrialSide]) -> list[tuple[str, list[_Cell | None]]]:
    """Return each phase with what it took in each arm, in the order in which phases were first told."""
    lines = [side.timeline for side in sides]
    names = list(dict.fromkeys(name for line in lines if line is not None for name in line.names))
    return [(name, [_cell(line, name) for line in lines]) for name in names]


def _cell(line: Timeline | None, name: str) -> _Cell | None:
    if line is None or name not in line.names:
        return None
    mine = line.name == line.names.index(name)
    wall = line.end_ns[mine] - line.begin_ns[mine]
    known = (line.cpu_ns[mine] >= 0).all() and wall.sum() > 0
    share = share_text(min(1.0, float(line.cpu_ns[mine].sum() / wall.sum()))) if known else "not read"
    return _Cell(int(mine.sum()), duration_text(float(wall.sum()) / 1e9), share)
