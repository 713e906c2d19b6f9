"""Where time goes as pictures: the mirror of both arms from a spine, and the flow between places."""

from __future__ import annotations

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.patches import PathPatch, Rectangle
from matplotlib.path import Path

from bystander.design import Flow, Outline
from bystander.errors import UsageError
from bystander.report.pictures.look import looked, saved, words
from bystander.report.pieces.flowing import DrawnFlow, DrawnRibbon, drawn_flow
from bystander.report.pieces.outline import DrawnBranch, drawn_outline
from bystander.report.theme import LIGHT
from bystander.units import duration_text

__all__ = ["drawn_flow_picture", "drawn_mirror_picture"]

_WIDE, _ROW, _HEAD, _FOOT = 9.0, 0.19, 0.78, 0.42  # inches
_MOST_ROWS = 300
_NAMES, _PLOT = 0.34, 0.47  # of the width: where the plot begins, and its own
_UNITS = 118.0  # of a flow's picture to an inch


def drawn_mirror_picture(outline: Outline, suffix: str) -> bytes:
    """Return the mirror of both arms; raise UsageError for one state, which has none."""
    if not outline.two:
        raise UsageError("--picture mirror shows two states; one state alone has --picture flow")
    if not outline.branches:
        raise UsageError("--picture: no block of both arms was watched, so there is nothing to draw")
    with looked():
        return saved(_mirror(outline), suffix)


def _mirror(outline: Outline) -> Figure:
    drawn = drawn_outline(outline)
    rows = drawn.branches[:_MOST_ROWS]
    height = _HEAD + _FOOT + _ROW * len(rows)
    figure = Figure(figsize=(_WIDE, height))
    axes = figure.add_axes((_NAMES, _FOOT / height, _PLOT, (height - _HEAD - _FOOT) / height))
    axes.set_axis_off()
    axes.set_xlim(0, 100)
    axes.set_ylim(len(rows) - 0.5, -0.5)
    axes.plot([50, 50], [-0.5, len(rows) - 0.5], color=LIGHT["soft"], lw=0.8)
    for place, one in enumerate(rows):
        _branch(axes, place, one)
    title = f"{outline.workload}: {outline.arms[0]} to the left, {outline.arms[1]} to the right"
    figure.text(0.02, 1 - 0.12 / height, words(title, 90), fontsize=11, weight="bold", va="top")
    told = f"the longest mark ends at {drawn.end}; deeper places begin further out; whiskers where a change is shown"
    figure.text(0.02, 1 - 0.36 / height, words(f"Seconds a trial with what each calls: {told}.", 140), fontsize=8.5,
                va="top")  # fmt: skip
    left = len(drawn.branches) - len(rows)
    rest = f"{left} branches more are not drawn. " if left else ""
    figure.text(0.02, 0.1 / height, f"{rest}Watched in trials apart from the timed ones; {outline.run}.", fontsize=7.5,
                color=LIGHT["soft"])  # fmt: skip
    return figure


def _branch(axes: Axes, place: int, one: DrawnBranch) -> None:
    colour = LIGHT["ink"] if one.shown else LIGHT["soft"]
    axes.plot([one.left[0], one.right[0]], [place, place], color=LIGHT["line"], lw=0.6, zorder=0)
    for begin, end in (one.left, one.right):
        axes.plot([begin, end], [place, place], color=colour, lw=3.4, solid_capstyle="butt")
    if one.whisker:
        axes.plot(one.whisker, [place, place], color=LIGHT["ink"], lw=0.9, marker="|", ms=6)
    indent = 0.012 * min(one.depth, 18)
    name = words(one.label, 44 - min(one.depth, 18))
    axes.text((indent + 0.02 - _NAMES) / _PLOT, place, name, va="center", fontsize=7.5,
              transform=axes.get_yaxis_transform(), color=colour)  # fmt: skip
    if one.shown:
        axes.text(1.02, place, words(one.told, 40), va="center", fontsize=7, transform=axes.get_yaxis_transform())


def drawn_flow_picture(flow: Flow, suffix: str) -> bytes:
    """Return the flow between places; raise UsageError where nothing was seen."""
    if not flow.places:
        raise UsageError("--picture: no reading fell into any place, so there is nothing to draw")
    with looked():
        return saved(_flow(flow), suffix)


def _flow(flow: Flow) -> Figure:
    drawn = drawn_flow(flow)
    width, height = drawn.width / _UNITS, drawn.height / _UNITS + _HEAD + _FOOT
    figure = Figure(figsize=(width, height))
    axes = figure.add_axes((0.01, _FOOT / height, 0.98, (height - _HEAD - _FOOT) / height))
    axes.set_axis_off()
    axes.set_xlim(0, drawn.width)
    axes.set_ylim(drawn.height, 0)
    for ribbon in drawn.ribbons:
        axes.add_patch(_ribbon(ribbon))
    _bars(axes, drawn)
    arms = f"{flow.arms[0]}, then {flow.arms[1]}" if len(flow.arms) == 2 else flow.arms[0]
    figure.text(0.01, 1 - 0.12 / height, words(f"{flow.workload}: {arms}", 90), fontsize=11, weight="bold", va="top")
    how = "Each place once, callers at the left; a ribbon is as wide as the seconds that one spends in another."
    figure.text(0.01, 1 - 0.36 / height, words(how, 150), fontsize=8.5, va="top")
    longest = max(one.after_s or one.before_s for one in flow.places)
    foot = f"{' '.join(drawn.notes)} The longest takes {duration_text(longest, 2)} a trial; {flow.run}.".strip()
    figure.text(0.01, 0.1 / height, words(foot, 180), fontsize=7.5, color=LIGHT["soft"])
    return figure


def _ribbon(one: DrawnRibbon) -> PathPatch:
    bend = (one.x2 - one.x1) / 2
    a, b = one.y1 + one.leaving, one.y2 + one.width
    points = [
        (one.x1, one.y1), (one.x1 + bend, one.y1), (one.x2 - bend, one.y2), (one.x2, one.y2), (one.x2, b),
        (one.x2 - bend, b), (one.x1 + bend, a), (one.x1, a), (one.x1, one.y1),
    ]  # fmt: skip
    codes = [Path.MOVETO, *[Path.CURVE4] * 3, Path.LINETO, *[Path.CURVE4] * 3, Path.CLOSEPOLY]
    colour = LIGHT["worse"] if one.changed else LIGHT["soft"]
    return PathPatch(Path(points, codes), facecolor=colour, edgecolor="none", alpha=0.28)


def _bars(axes: Axes, drawn: DrawnFlow) -> None:
    for one in drawn.places:
        axes.add_patch(Rectangle((one.x, one.y), drawn.bar, one.height, facecolor=LIGHT["ink"], edgecolor="none"))
        axes.text(one.x, one.y - 14, words(one.label, 40), fontsize=7)
        axes.text(one.x, one.y - 3, words(one.told, 40), fontsize=6.5, color=LIGHT["soft"])
