"""A forest: rows on a shared log axis of change, one bar each; in percent of the axis, so that any width will do."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from bystander.report.theme import SHAPES, TONES
from bystander.units import share_text
from bystander.verdicts import Decision, RatioAxis, Row, Scale, shared_axis

__all__ = ["Bar", "Forest", "axis_of", "bar", "forest", "place_on", "tick_text"]

_APART = 0.13  # of the axis: a label that is nearer to that of no change would touch it
_EDGE = 1.5  # percent at both ends, so that no mark is cut


@dataclass(frozen=True)
class Bar:
    """A row: places in percent of the axis.

    Attributes
    ----------
    at : float or None
        The estimate; None where there is none.
    cut_left, cut_right : bool
        Whether the interval goes on beyond the axis.
    shape, tone : str
        What the estimate is drawn as, and in which colour.
    whole : bool
        Whether something is shown; the bar of an unclear row is broken.
    """

    left: float
    right: float
    at: float | None
    cut_left: bool
    cut_right: bool
    shape: str
    tone: str
    whole: bool


@dataclass(frozen=True)
class Forest:
    """The axis that rows share, in percent.

    Attributes
    ----------
    ticks : tuple of (float, str, bool)
        Places and labels, and whether they are left out where there is little room.
    more, less : str
        What is said of rows at either side.
    """

    axis: RatioAxis
    margin_left: float
    margin_width: float
    one: float
    ticks: tuple[tuple[float, str, bool], ...]
    more: str
    less: str


def forest(decision: Decision) -> Forest | None:
    """Return the axis of all ratio rows of the study's measure, or None when there is none."""
    rows = [row for row in decision.primary if row.scale == Scale.RATIO]
    if not rows:
        return None
    more, less = decision.measure.words
    return axis_of(shared_axis(rows), rows[0].margin, more, less)


def axis_of(axis: RatioAxis, margin: float, more: str, less: str, ticks: int = 7) -> Forest:
    """Return an axis with its margin and ticks; of those in the middle of each side only wide pages show the label."""
    band = place_on(axis, 1 / (1 + margin)), place_on(axis, 1 + margin)
    at: Sequence[float] = axis.ticks(ticks)
    shown = [tick for tick in at if tick == 1.0 or abs(axis.place(tick) - 0.5) > _APART]
    labels = tuple((place_on(axis, tick), tick_text(tick), tick not in (at[0], 1.0, at[-1])) for tick in shown)
    return Forest(axis, band[0], round(band[1] - band[0], 2), place_on(axis, 1.0), labels, more, less)


def bar(axis: RatioAxis, row: Row) -> Bar | None:
    """Return a row's place on an axis; None for a row of another scale, or one that was not looked at yet."""
    if row.scale != Scale.RATIO or not row.looked_at:
        return None
    at = None if math.isnan(row.estimate) else place_on(axis, row.estimate)
    return Bar(
        place_on(axis, row.low), place_on(axis, row.high), at, not row.low >= 1 / axis.reach,
        not row.high <= axis.reach, SHAPES[row.verdict], TONES[row.verdict], row.verdict != "unclear",
    )  # fmt: skip


def place_on(axis: RatioAxis, ratio: float) -> float:
    """Return where a ratio stands, in percent."""
    return round(_EDGE + axis.place(ratio) * (100 - 2 * _EDGE), 2)


def tick_text(ratio: float) -> str:
    """Return the label of a tick: percent near no change, factors beyond."""
    if math.isclose(ratio, 1.0):
        return "no change"
    if ratio >= 1.995:
        return f"× {ratio:g}"
    if ratio <= 0.505:
        return f"÷ {1 / ratio:g}"
    return f"{'+' if ratio > 1 else '−'}{share_text(abs(ratio - 1))}"
