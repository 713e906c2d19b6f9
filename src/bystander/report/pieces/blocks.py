"""A row's blocks in the order in which they ran: what drifted, and which lie far out."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bystander.units import quantity_text
from bystander.verdicts import BlockSeries, Row, Scale

__all__ = ["BlockPicture", "block_changes", "block_edges", "block_picture", "on_scale"]

_WIDTH, _HEIGHT, _EDGE = 1000, 96, 10
_NAMED = 12
_BEYOND = 1.0  # of the others' reach, up to which blocks that lie far out are drawn where they are


@dataclass(frozen=True)
class BlockPicture:
    """The picture on a ground of `width` by `height`, the worse above.

    Attributes
    ----------
    dots, far, bounds : str
        Paths of points of no length: blocks, those that lie far from the others, and those in which a trial failed.
    nothing, estimate, low, high : float
        Heights of no change, and of the row's estimate and interval; NaN where there is none.
    top, bottom : str
        The changes at the upper and the lower edge.
    named : tuple of (float, float, str)
        Places in percent, and numbers, of blocks that lie far out.
    numbers : tuple of (int, str)
        Each block and its change.
    text : str
        The same in words.
    """

    width: int
    height: int
    dots: str
    far: str
    bounds: str
    nothing: float
    estimate: float
    low: float
    high: float
    top: str
    bottom: str
    named: tuple[tuple[float, float, str], ...]
    numbers: tuple[tuple[int, str], ...]
    text: str


def block_changes(series: BlockSeries, row: Row) -> list[str]:
    """Return the change in each block as text: percent, a factor, an amount, or a bound where a trial failed."""
    return [
        _change(low, row) if exact else f"{_change(low, row)} to {_change(high, row)}"
        for low, high, exact in zip(series.low.tolist(), series.high.tolist(), series.exact.tolist(), strict=True)
    ]


def block_edges(series: BlockSeries) -> tuple[float, float]:
    """Return the lower and the upper edge of a picture of blocks: all but those far out, and no change, lie within.

    At least one block must have a difference.
    """
    near = series.exact & ~series.far
    known = series.low[near if near.any() else series.exact]
    bottom, top = min(0.0, float(known.min())), max(0.0, float(known.max()))
    more = _BEYOND * ((top - bottom) or 1.0)
    far = series.low[series.far]
    least, most = (float(end(far)) if far.size else 0.0 for end in (np.min, np.max))
    return min(bottom, max(least, bottom - more)), max(top, min(most, top + more))


def block_picture(series: BlockSeries | None, row: Row) -> BlockPicture | None:
    """Return the picture of a row's blocks, None where no block has a difference."""
    if series is None or not series.exact.any():
        return None
    exact = series.exact
    ratio = series.scale == Scale.RATIO
    ends = [on_scale(value, ratio) for value in (row.estimate, row.low, row.high)]
    known = series.low[exact]
    bottom, top = block_edges(series)
    reach = (top - bottom) or 1.0

    def height(value: float) -> float:
        if not math.isfinite(value):
            return math.nan
        return round(_EDGE + (top - min(top, max(bottom, value))) / reach * (_HEIGHT - 2 * _EDGE), 1)

    count = series.blocks.size
    places = (_EDGE + (np.arange(count) + 0.5) / count * (_WIDTH - 2 * _EDGE)).round().astype(int).tolist()
    points = [f"M{x} {height(v):g}h0" for x, v in zip(places, np.where(exact, series.low, 0.0).tolist(), strict=True)]
    far, changes = np.flatnonzero(series.far).tolist(), block_changes(series, row)
    named = sorted(far, key=lambda i: -abs(series.low[i] - np.median(known)))[:_NAMED]
    unknown = np.flatnonzero(~exact).tolist()
    labels = [(places[i] / _WIDTH * 100, height(series.low[i]), _label(series, i, changes)) for i in sorted(named)]
    return BlockPicture(
        _WIDTH, _HEIGHT, "".join(points[i] for i in np.flatnonzero(exact & ~series.far).tolist()),
        "".join(points[i] for i in far), "".join(f"M{places[i]} {_HEIGHT - 4}h0" for i in unknown),
        height(0.0), height(ends[0]), height(ends[1]), height(ends[2]), _edge(top, row), _edge(bottom, row),
        tuple(labels),
        tuple(zip(series.blocks.tolist(), changes, strict=True)),
        f"{count} blocks in the order in which they ran, changes from {_change(float(known.min()), row)} to "
        f"{_change(float(known.max()), row)}" + (f"; {len(far)} far from the others" if far else ""),
    )  # fmt: skip


def _edge(value: float, row: Row) -> str:
    return _change(value, row) if value else "no change"


def _label(series: BlockSeries, at: int, changes: Sequence[str]) -> str:
    """Return the number of a block that lies far out, with its change where it lies beyond the picture."""
    bottom, top = block_edges(series)
    return str(series.blocks[at]) if bottom <= series.low[at] <= top else f"{series.blocks[at]}: {changes[at]}"


def on_scale(value: float, ratio: bool) -> float:
    """Return a number of the row as blocks have it; NaN where it is not bounded."""
    if not ratio:
        return value
    return math.log(value) if 0 < value < math.inf else math.nan


def _change(value: float, row: Row) -> str:
    if row.scale != Scale.RATIO:
        text = quantity_text(abs(value), row.measure.unit, 2) if math.isfinite(value) else "?"
        return f"{'−' if value < 0 else '+'}{text}"
    if not math.isfinite(value):
        return "?"
    ratio = math.exp(min(value, 700.0))
    if ratio >= 2 or ratio <= 0.5:
        return f"× {ratio:.2g}" if ratio >= 2 else f"÷ {1 / ratio:.2g}"
    return f"{100 * (ratio - 1):+.1f} %"
