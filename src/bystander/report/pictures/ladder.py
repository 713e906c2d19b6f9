"""A ladder as a picture: each edit's own gain on an axis of steps, and beside it the stairs in time."""

from __future__ import annotations

from matplotlib.axes import Axes
from matplotlib.figure import Figure

from bystander.errors import UsageError
from bystander.report.pictures.look import MARKERS, bare, looked, saved, words
from bystander.report.pieces.rungs import DrawnRung, DrawnRungs, drawn_rungs
from bystander.report.theme import LIGHT, MARKS
from bystander.units import shortened
from bystander.verdicts import Ladder, ladder_lines

__all__ = ["drawn_ladder_picture"]

_WIDE, _LINE, _HEAD, _FOOT = 10.5, 0.36, 1.05, 0.5  # inches
_MOST_RUNGS = 120
_NAMES, _GAINS, _STAIRS = (0.02, 0.27), (0.30, 0.23), (0.76, 0.14)  # of the width: begin and extent


def drawn_ladder_picture(ladder: Ladder, suffix: str) -> bytes:
    """Return the picture; raise UsageError where there is no link to draw."""
    if not ladder.rungs:
        raise UsageError(f"--to: record {ladder.head.name} has no link, so there is no ladder to draw")
    with looked():
        return saved(_figure(ladder), suffix)


def _figure(ladder: Ladder) -> Figure:
    drawn = drawn_rungs(ladder)
    rungs = drawn.rungs[:_MOST_RUNGS]
    first = int(ladder.kind.climbs)  # a line for the state that it begins with
    height = _HEAD + _FOOT + _LINE * (len(rungs) + first)
    figure = Figure(figsize=(_WIDE, height))
    bottom, tall = _FOOT / height, (height - _HEAD - _FOOT) / height
    gains = figure.add_axes((_GAINS[0], bottom, _GAINS[1], tall))
    stairs = figure.add_axes((_STAIRS[0], bottom, _STAIRS[1], tall))
    for axes in (gains, stairs):
        bare(axes)
        axes.set_xlim(0, 100)
        axes.set_ylim(len(rungs) + 0.5, 0.5 - first)
        axes.set_yticks([])
    _axis(gains, drawn, len(rungs))
    if drawn.stairs:
        stairs.set_xticks([x for x, _ in drawn.stairs.ticks], [label for _, label in drawn.stairs.ticks], fontsize=7.5)
    else:
        stairs.set_axis_off()
    if first:
        _first(gains, stairs, drawn)
    for place, rung in enumerate(rungs, 1):
        _rung(gains, stairs, place, rung)
    figure.text(0.02, 1 - 0.12 / height, words(ladder.head.study.name, 90), fontsize=12, weight="bold", va="top")
    for place, text in enumerate(ladder_lines(ladder)[:2]):
        figure.text(0.02, 1 - (0.38 + 0.21 * place) / height, words(text, 150), fontsize=8.5, va="top")
    left = len(drawn.rungs) - len(rungs)
    rest = f"The first {len(rungs)} of {len(drawn.rungs)} links. " if left else ""
    told = "Bars are intervals, the pale band is the margin"
    told += "; right: how long it takes, on a logarithmic axis" if drawn.stairs else ""
    figure.text(0.02, 0.1 / height, words(f"{rest}{told}. Record {ladder.head.name}.", 170), fontsize=7.5,
                color=LIGHT["soft"])  # fmt: skip
    return figure


def _axis(axes: Axes, drawn: DrawnRungs, count: int) -> None:
    axis = drawn.axis
    axes.axvspan(axis.margin_left, axis.margin_left + axis.margin_width, color=LIGHT["band"], lw=0)
    axes.axvline(axis.one, color=LIGHT["soft"], lw=0.8)
    axes.set_xticks([x for x, _, _ in axis.ticks], [label for _, label, _ in axis.ticks], fontsize=7)
    axes.text(0, 1.0, f"◀ {axis.less}", transform=axes.transAxes, va="bottom", fontsize=8, color=LIGHT["soft"])
    axes.text(1, 1.0, f"{axis.more} ▶", transform=axes.transAxes, va="bottom", ha="right", fontsize=8,
              color=LIGHT["soft"])  # fmt: skip
    for place in range(1, count + 1):
        axes.plot([-130, 320], [place - 0.5, place - 0.5], color=LIGHT["line"], lw=0.5, clip_on=False, zorder=0)


def _in(begin: float) -> float:
    """Return a share of the figure's width as a share of the axis of gains."""
    return (begin - _GAINS[0]) / _GAINS[1]


def _first(gains: Axes, stairs: Axes, drawn: DrawnRungs) -> None:
    across = gains.get_yaxis_transform()
    gains.text(_in(_NAMES[0]), 0, words(f"{drawn.first}, the first state", 44), transform=across, va="center")
    gains.text(_in(0.98), 0, drawn.first_median, transform=across, va="center", ha="right")
    if drawn.stairs and drawn.stairs.treads[0]:
        at = drawn.stairs.treads[0].before
        stairs.plot([at, at], [-0.3, 0.5], color=LIGHT["plain"], lw=1.6)


def _rung(gains: Axes, stairs: Axes, place: int, rung: DrawnRung) -> None:
    across = gains.get_yaxis_transform()
    flags = f" ({', '.join(rung.flags)})" if rung.flags else ""
    struck = LIGHT["soft"] if "dropped" in rung.flags else LIGHT["ink"]
    named = f"{rung.number or ''} {rung.state}{flags}".strip()
    gains.text(_in(_NAMES[0]), place - 0.17, words(named, 40), transform=across, va="center", fontsize=8.5,
               weight="bold", color=struck)  # fmt: skip
    about = f"{shortened(rung.subject, 38)}  {rung.size}"
    gains.text(_in(_NAMES[0]), place + 0.2, words(about, 54), transform=across, va="center", fontsize=7.5,
               color=LIGHT["soft"])  # fmt: skip
    colour = LIGHT[rung.tone]
    if (one := rung.bar) is not None:
        gains.plot([one.left, one.right], [place, place], color=colour, lw=4.5, alpha=0.6, solid_capstyle="butt",
                   ls="solid" if one.whole else (0, (2, 1)))  # fmt: skip
        for end, beyond, marker in ((one.left, one.cut_left, "<"), (one.right, one.cut_right, ">")):
            if beyond:
                gains.plot([end], [place], marker=marker, color=colour, ms=5, clip_on=False)
        if one.at is not None:
            face = colour if one.whole else LIGHT["card"]
            gains.plot(
                [one.at], [place], marker=MARKERS[one.shape], color=colour, mfc=face, ms=7, mew=1.6, clip_on=False
            )
    gains.text(_in(_GAINS[0] + _GAINS[1] + 0.015), place, f"{MARKS[rung.verdict]} {rung.verdict}  {rung.change}",
               transform=across, va="center", fontsize=8, color=colour)  # fmt: skip
    told = "   ".join(text for text in (rung.so_far, rung.median) if text)
    gains.text(_in(0.98), place - (0.17 if rung.median else 0), rung.median or told, transform=across, va="center",
               ha="right", fontsize=8.5)  # fmt: skip
    if rung.median:
        gains.text(_in(0.98), place + 0.2, rung.so_far, transform=across, va="center", ha="right", fontsize=7.5,
                   color=LIGHT["soft"])  # fmt: skip
    if (tread := rung.tread) is not None:
        stairs.plot([tread.before, tread.before, tread.at, tread.at], [place - 0.5, place, place, place + 0.5],
                    color=colour, lw=1.6, solid_joinstyle="miter")  # fmt: skip
        stairs.plot([tread.left, tread.right], [place, place], color=colour, lw=5, alpha=0.3, solid_capstyle="butt")
