"""The main picture: one row per workload on a shared log axis of change, worst first."""

from __future__ import annotations

import math
from dataclasses import dataclass

from bystander.report.theme import COLOURS, MARKS
from bystander.units import share_text
from bystander.verdicts import Axis, Decision, Row, Scale, change_text, shared_axis

__all__ = ["Forest", "forest"]

_ROW, _LEFT, _PLOT, _RIGHT, _TOP = 30, 230, 520, 290, 34


@dataclass(frozen=True)
class _Line:
    """A row, in pixels."""

    y: float
    name: str
    text: str
    verdict: str
    colour: str
    shape: str
    left: float
    right: float
    at: float | None
    cut_left: bool
    cut_right: bool


@dataclass(frozen=True)
class Forest:
    """The picture, in pixels, for its template."""

    width: int
    height: int
    plot_left: int
    plot_right: int
    top: int
    bottom: int
    margin_left: float
    margin_width: float
    one: float
    ticks: tuple[tuple[float, str], ...]
    lines: tuple[_Line, ...]
    more: str
    less: str


def forest(decision: Decision) -> Forest | None:
    """Return the picture of all ratio rows of the study's measure, or None when there is none."""
    rows = [row for row in decision.primary if row.scale == Scale.RATIO]
    if not rows:
        return None
    axis = shared_axis(rows)
    bottom = _TOP + _ROW * len(rows)
    margin = rows[0].margin
    band = _x(axis, 1 / (1 + margin)), _x(axis, 1 + margin)
    more, less = decision.measure.words
    return Forest(
        _LEFT + _PLOT + _RIGHT, bottom + 34, _LEFT, _LEFT + _PLOT, _TOP, bottom, band[0], band[1] - band[0],
        _x(axis, 1.0), tuple((_x(axis, tick), _tick(tick)) for tick in axis.ticks()),
        tuple(_line(row, decision.name_of(row), i, axis) for i, row in enumerate(rows)), more, less,
    )  # fmt: skip


def _x(axis: Axis, ratio: float) -> float:
    return round(_LEFT + axis.place(ratio) * _PLOT, 1)


def _tick(ratio: float) -> str:
    if math.isclose(ratio, 1.0):
        return "no change"
    if ratio >= 1.995:
        return f"× {ratio:g}"
    if ratio <= 0.505:
        return f"÷ {1 / ratio:g}"
    return f"{'+' if ratio > 1 else '−'}{share_text(abs(ratio - 1))}"


def _line(row: Row, name: str, place: int, axis: Axis) -> _Line:
    return _Line(
        y=_TOP + _ROW * (place + 0.5),
        name=name if len(name) <= 30 else name[:29] + "…",
        text=change_text(row),
        verdict=row.verdict,
        colour=COLOURS[row.verdict],
        shape=MARKS[row.verdict],
        left=_x(axis, row.low),
        right=_x(axis, row.high),
        at=None if math.isnan(row.estimate) else _x(axis, row.estimate),
        cut_left=row.low < 1 / axis.reach,
        cut_right=row.high > axis.reach,
    )
