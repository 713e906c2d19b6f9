"""The three kinds of pictures, and which rows they show."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import FixedLocator, FuncFormatter, MaxNLocator, NullFormatter

from bystander.errors import UsageError
from bystander.report import common
from bystander.report.pictures.look import MARKERS, bare, looked, saved, words
from bystander.report.pieces.blocks import block_changes, block_edges, on_scale
from bystander.report.pieces.forest import bar, tick_text
from bystander.report.pieces.strip import lane_heights, thinned
from bystander.report.theme import LIGHT, MARKS, TONES
from bystander.units import quantity_text, share_text
from bystander.verdicts import Axis, BlockSeries, Decision, Row, Scale, Single, change_text, row_sentence, shared_axis

__all__ = ["drawn"]

_WIDE, _LINE, _PANEL = 9.0, 0.27, 1.7  # inches: of all pictures, of a row of a forest, of a panel
_MOST_LINES, _MOST_PANELS = 80, 12
_LOG_BEYOND = 4.0
_APART = 0.2  # of the height of a panel: labels that are nearer to the one of no change would touch it


def drawn(decision: Decision, kind: str, suffix: str) -> bytes:
    """Return a picture; see `picture`."""
    draw = {"forest": _forest, "distribution": _distributions, "blocks": _blocks}[kind]
    with looked():
        return saved(draw(decision), suffix)


def _forest(decision: Decision) -> Figure:
    """Return every row on the axis of change, worst first."""
    rows = [row for row in decision.primary if row.scale == Scale.RATIO]
    shown = rows[:_MOST_LINES]
    if not shown:
        raise UsageError(f"--to: record {decision.head.name} has no row of ratios, so there is no forest to draw")
    axis = shared_axis(shown)
    figure = Figure(figsize=(_WIDE, 1.25 + _LINE * len(shown)))
    bottom, top = 0.45 / figure.get_figheight(), 1 - 0.72 / figure.get_figheight()
    axes = figure.add_axes((0.24, bottom, 0.40, top - bottom))
    bare(axes)
    reach = math.log(axis.reach)
    margin = math.log1p(shown[0].margin)
    axes.axvspan(-margin, margin, color=LIGHT["band"], lw=0)
    axes.axvline(0, color=LIGHT["soft"], lw=0.8)
    axes.set_xlim(-reach, reach)
    axes.set_ylim(len(shown) - 0.5, -0.5)
    at = axis.ticks(5)
    axes.set_xticks([math.log(tick) for tick in at], [tick_text(tick) for tick in at], fontsize=8)
    axes.set_yticks([])
    for place, row in enumerate(shown):
        _line(axes, place, row, axis)
        axes.text(-0.03, place, words(decision.name_of(row), 30), transform=axes.get_yaxis_transform(), ha="right",
                  va="center")  # fmt: skip
        said = f"{MARKS[row.verdict]} {row.verdict}  {change_text(row)}"
        axes.text(1.03, place, said, transform=axes.get_yaxis_transform(), ha="left", va="center",
                  color=LIGHT[TONES[row.verdict]])  # fmt: skip
    more, less = decision.measure.words
    axes.text(0, 1.0, f"◀ {less}", transform=axes.transAxes, va="bottom", fontsize=8, color=LIGHT["soft"])
    axes.text(1, 1.0, f"{more} ▶", transform=axes.transAxes, va="bottom", ha="right", fontsize=8, color=LIGHT["soft"])
    rest = f"The first {len(shown)} of {len(rows)} rows. " if len(shown) < len(rows) else ""
    _titles(
        figure, decision, f"{rest}Bars are intervals, the pale band is the margin of {share_text(decision.margin)}."
    )
    return figure


def _line(axes: Axes, place: int, row: Row, axis: Axis) -> None:
    """Draw a row's interval and estimate; an interval that goes on beyond the axis ends in an arrow."""
    one = bar(axis, row)
    if one is None:
        return
    reach, colour = math.log(axis.reach), LIGHT[one.tone]
    low, high = (max(-reach, min(reach, math.log(v) if v > 0 else -reach)) for v in (row.low, row.high))
    dashes = "solid" if one.whole else (0, (2, 1))
    axes.plot([low, high], [place, place], color=colour, lw=4, alpha=0.6, solid_capstyle="butt", ls=dashes)
    for end, beyond, marker in ((low, one.cut_left, "<"), (high, one.cut_right, ">")):
        if beyond:
            axes.plot([end], [place], marker=marker, color=colour, ms=5, clip_on=False)
    if math.isfinite(row.estimate) and row.estimate > 0:
        face = colour if one.whole else LIGHT["card"]
        axes.plot([math.log(row.estimate)], [place], marker=MARKERS[one.shape], color=colour, mfc=face, ms=6.5, mew=1.6,
                  clip_on=False)  # fmt: skip


def _titles(figure: Figure, decision: Decision, foot: str) -> None:
    """Write what the picture is of, above; and how it is read, below."""
    height = figure.get_figheight()
    figure.text(0.02, 1 - 0.1 / height, words(decision.head.study.name, 90), fontsize=12, weight="bold", va="top")
    figure.text(0.02, 1 - 0.34 / height, words(common.outcome(decision), 130), fontsize=9, va="top")
    said = f"{foot} Record {decision.head.name}, {decision.measure.label}."
    figure.text(0.02, 0.06 / height, words(said, 150), fontsize=7.5, color=LIGHT["soft"])


def _panels(decision: Decision, rows: Sequence[Row], draw: Callable[[Axes, Row], None], foot: str) -> Figure:
    """Return one panel below the other, each under its row in words."""
    shown = rows[:_MOST_PANELS]
    if not shown:
        raise UsageError(f"--picture: no row of record {decision.head.name} that is shown has what it takes")
    figure = Figure(figsize=(_WIDE, 0.85 + _PANEL * len(shown)))
    height = figure.get_figheight()
    for place, row in enumerate(shown):
        bottom = height - 0.6 - _PANEL * (place + 1) + 0.45
        axes = figure.add_axes((0.16, bottom / height, 0.80, (_PANEL - 0.85) / height))
        bare(axes)
        title = words(f"{decision.name_of(row)}: {row_sentence(row)}", 120)
        figure.text(0.02, (bottom + _PANEL - 0.62) / height, f"{MARKS[row.verdict]} {title}", va="center",
                    color=LIGHT[TONES[row.verdict]])  # fmt: skip
        draw(axes, row)
    rest = f"The first {len(shown)} of {len(rows)} rows; --only shows others. " if len(shown) < len(rows) else ""
    _titles(figure, decision, f"{rest}{foot}")
    return figure


def _distributions(decision: Decision) -> Figure:
    """Return every trial of each row, both arms under each other."""
    singles = {(s.workload, s.arm): s for s in decision.singles if s.measure == decision.measure}

    def sides(row: Row) -> list[Single]:
        found = [singles.get((row.workload, arm)) for arm in (row.against, row.arm)]
        return [one for one in found if one is not None and one.values.size]

    def draw(axes: Axes, row: Row) -> None:
        both = sides(row)
        values = np.concatenate([one.values for one in both])
        if values.min() > 0 and values.max() > _LOG_BEYOND * values.min():
            axes.set_xscale("log")
            axes.xaxis.set_minor_formatter(NullFormatter())
        for single in both:
            reference = single.arm == row.against
            dots = thinned(single.values)
            lane = (1.1 if reference else 0.0) + 0.1 + 0.8 * lane_heights(dots.size)
            colour = LIGHT["soft"] if reference else LIGHT[TONES[row.verdict]]
            axes.plot(dots, lane, "o", ms=3.6, color=colour, mfc="none" if reference else colour, alpha=0.75, ls="")
            middle = float(np.median(single.values))
            axes.plot([middle, middle], [1.1, 2.0] if reference else [0.0, 0.9], color=LIGHT["ink"], lw=1.6)
            axes.text(-0.01, 1.55 if reference else 0.45, words(single.arm, 16), va="center", ha="right",
                      transform=axes.get_yaxis_transform())  # fmt: skip
        axes.set_ylim(-0.15, 2.15)
        axes.set_yticks([])
        axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: quantity_text(value, row.measure.unit, 2)))

    rows = [row for row in decision.primary if row.looked_at and sides(row)]
    return _panels(decision, rows, draw, "Each dot is a trial, upright lines are medians.")


def _blocks(decision: Decision) -> Figure:
    """Return the change in each block of each row, in the order in which they ran."""

    def draw(axes: Axes, row: Row) -> None:
        series = decision.series[row.key]
        colour = LIGHT[TONES[row.verdict]]
        ratio = series.scale == Scale.RATIO
        ends = [on_scale(value, ratio) for value in (row.low, row.high)]
        if all(map(math.isfinite, ends)):
            axes.axhspan(*ends, color=colour, alpha=0.16, lw=0)
        axes.axhline(0, color=LIGHT["soft"], lw=0.8)
        estimate = on_scale(row.estimate, ratio)
        if math.isfinite(estimate):
            axes.axhline(estimate, color=colour, lw=1.3, ls=(0, (5, 3)))
        _dots(axes, series, block_changes(series, row))
        axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: _change(value, row)))
        low, high = block_edges(series)
        room = 0.16 * ((high - low) or 1.0)
        axes.set_ylim(low - room, high + room)
        if ratio:
            at = [math.log(tick) for tick in Axis(math.exp(min(max(-low, high, 0.02), 50.0))).ticks(5)]
            apart = _APART * (high - low)
            at = [tick for tick in at if low <= tick <= high and (tick == 0 or abs(tick) > apart)]
            axes.yaxis.set_major_locator(FixedLocator(at))
        else:
            axes.yaxis.set_major_locator(MaxNLocator(4))
        axes.xaxis.set_major_locator(MaxNLocator(10, integer=True))
        axes.set_xlabel("block", fontsize=8, labelpad=1)

    rows = [row for row in decision.primary if row.key in decision.series and decision.series[row.key].exact.any()]
    foot = "Thin line: no change; broken line: the estimate; band: its interval; rings lie far from the others."
    return _panels(decision, rows, draw, foot)


def _dots(axes: Axes, series: BlockSeries, changes: Sequence[str]) -> None:
    """Draw each block; those that lie beyond the picture at its edge, with their changes."""
    near, far = series.exact & ~series.far, series.far
    axes.plot(series.blocks[near], series.low[near], "o", ms=3.8, color=LIGHT["ink"], ls="")
    low, high = block_edges(series)
    heights = np.clip(series.low, low, high)
    axes.plot(series.blocks[far], heights[far], "o", ms=7, color=LIGHT["ink"], mfc=LIGHT["card"], mew=1.5, ls="")
    for i in np.flatnonzero(far).tolist():
        block = series.blocks[i]
        label = str(block) if low <= series.low[i] <= high else f"{block}: {changes[i]}"
        axes.annotate(label, (block, heights[i]), xytext=(6, 0), textcoords="offset points", fontsize=7.5, va="center")
    bounds = series.blocks[~series.exact]
    axes.plot(bounds, np.zeros(bounds.size), "x", ms=6, color=LIGHT["failed"], mew=1.8, ls="",
              transform=axes.get_xaxis_transform(), clip_on=False)  # fmt: skip


def _change(value: float, row: Row) -> str:
    if row.scale != Scale.RATIO:
        return quantity_text(value, row.measure.unit, 2)
    ratio = math.exp(value)
    if math.isclose(ratio, 1.0, abs_tol=5e-4):
        return "no change"
    return tick_text(ratio) if 0.505 < ratio < 1.995 else f"× {ratio:.2g}" if ratio > 1 else f"÷ {1 / ratio:.2g}"
