"""The flow: each place once, callers at the left, joined to what they call by ribbons as wide as their seconds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from bystander.design import Flow, FlowPlace, Ribbon, place_label
from bystander.units import counted, duration_text, shortened

__all__ = ["DrawnFlow", "DrawnPlace", "DrawnRibbon", "drawn_flow"]

_HEIGHT, _BAR, _COLUMN, _SLOT, _TOP = 400.0, 8.0, 150.0, 29.0, 28.0
_FEWEST, _LETTERS, _LABEL = 1000.0, 26, 190.0
_SWEEPS = 6


@dataclass(frozen=True)
class DrawnPlace:
    """A place as an upright bar; the picture's units."""

    x: float
    y: float
    height: float
    label: str
    told: str
    tip: str


@dataclass(frozen=True)
class DrawnRibbon:
    """What flows from one place into another: from the right edge of the one to the left edge of the other.

    It is as wide as its seconds where it comes in; where it leaves it is narrower if all that leaves there is more than
    the place takes, as through recursion the same seconds may leave it twice.
    """

    x1: float
    y1: float
    x2: float
    y2: float
    width: float
    leaving: float
    tip: str
    changed: bool

    @property
    def path(self) -> str:
        """The ribbon's outline as SVG draws it."""
        bend = (self.x2 - self.x1) / 2
        a, b = self.y1 + self.leaving, self.y2 + self.width
        return (
            f"M{self.x1:.1f} {self.y1:.1f}C{self.x1 + bend:.1f} {self.y1:.1f} {self.x2 - bend:.1f} {self.y2:.1f} "
            f"{self.x2:.1f} {self.y2:.1f}V{b:.1f}C{self.x2 - bend:.1f} {b:.1f} {self.x1 + bend:.1f} {a:.1f} "
            f"{self.x1:.1f} {a:.1f}Z"
        )


@dataclass(frozen=True)
class DrawnFlow:
    """The picture, and what is not in it."""

    width: float
    height: float
    places: tuple[DrawnPlace, ...]
    ribbons: tuple[DrawnRibbon, ...]
    bar: float
    notes: tuple[str, ...]


def drawn_flow(flow: Flow) -> DrawnFlow:
    """Return a flow laid out: callers at the left, the longest places above; ribbons that lead back are left out."""
    forward, back = _forward(flow)
    column = _columns(len(flow.places), forward)
    rows = _rows(column, forward)
    unit = _unit(flow, rows)
    width = max(_FEWEST, (max(column, default=0) + 1) * _COLUMN)
    step = (width - _BAR - _LABEL) / max(1, max(column, default=0))
    xs = [4 + column[k] * step for k in range(len(flow.places))]
    ys = _heights(flow, rows, forward, unit)
    places = []
    two = len(flow.arms) == 2
    letters = max(12, min(_LETTERS, int(step / 7.4)))
    for k, one in enumerate(flow.places):
        label, told = place_label(one.place), _seconds(one.before_s, one.after_s, two)
        tip = f"{label}: {told}, alone {duration_text(one.alone_s, 2) if one.alone_s else '0'}"
        places.append(DrawnPlace(xs[k], ys[k], _bar(one, unit), shortened(label, letters), told, tip))
    notes = []
    if back:
        notes.append("What leads back to a place that is left of it, as recursion does, is not drawn.")
    if flow.left_out:
        few = "is" if flow.left_out == 1 else "are"
        notes.append(f"{counted(flow.left_out, 'smaller place')} {few} not drawn.")
    ribbons = tuple(_ribbons(flow, forward, xs, ys, unit, two))
    height = max((one.y + one.height for one in places), default=0.0) + 6
    return DrawnFlow(width, height, tuple(places), ribbons, _BAR, tuple(notes))


def _size(one: FlowPlace) -> float:
    """Return what a place is drawn by: its seconds after, or before where it is gone."""
    return one.after_s or one.before_s


def _seconds(before_s: float, after_s: float, two: bool) -> str:
    before, after = (duration_text(s, 2) if s else "0" for s in (before_s, after_s))
    return after if not two or before == after else f"{before}, then {after}"


def _forward(flow: Flow) -> tuple[list[Ribbon], list[Ribbon]]:
    """Return the ribbons that lead on, and those that would lead back: found by going down from the longest places."""
    below: dict[int, list[Ribbon]] = {}
    for ribbon in flow.ribbons:
        below.setdefault(ribbon.caller, []).append(ribbon)
    state = [0] * len(flow.places)  # 1 while it is gone through, 2 when all below it was
    forward: list[Ribbon] = []
    back: list[Ribbon] = []
    called = {ribbon.callee for ribbon in flow.ribbons}
    for root in sorted(range(len(flow.places)), key=lambda k: (k in called, k)):
        if state[root]:
            continue
        state[root] = 1
        going = [(root, iter(below.get(root, [])))]
        while going:
            here, rest = going[-1]
            found = next(rest, None)
            if found is None:
                state[here] = 2
                going.pop()
            elif state[found.callee] == 1:
                back.append(found)
            else:
                forward.append(found)
                if not state[found.callee]:
                    state[found.callee] = 1
                    going.append((found.callee, iter(below.get(found.callee, []))))
    return forward, back


def _columns(size: int, forward: Sequence[Ribbon]) -> list[int]:
    """Return how far right each place stands: behind all that call it."""
    column = [0] * size
    for _ in range(size):
        moved = False
        for ribbon in forward:
            if column[ribbon.callee] <= column[ribbon.caller]:
                column[ribbon.callee] = column[ribbon.caller] + 1
                moved = True
        if not moved:
            break
    return column


def _rows(column: Sequence[int], forward: Sequence[Ribbon]) -> list[list[int]]:
    """Return the places of each column from above: beside those that call them, so that few ribbons cross."""
    rows: list[list[int]] = [[] for _ in range(max(column, default=-1) + 1)]
    for k, at in enumerate(column):
        rows[at].append(k)
    height = {k: float(place) for mine in rows for place, k in enumerate(mine)}
    for _ in range(_SWEEPS):
        for mine in rows[1:]:
            weight: dict[int, tuple[float, float]] = {}
            for ribbon in forward:
                if ribbon.callee in mine:
                    seconds = ribbon.after_s or ribbon.before_s
                    sums = weight.get(ribbon.callee, (0.0, 0.0))
                    weight[ribbon.callee] = sums[0] + seconds, sums[1] + seconds * height[ribbon.caller]
            mine.sort(key=lambda k: (weight[k][1] / weight[k][0] if weight.get(k, (0, 0))[0] else height[k], k))
            height.update({k: float(place) for place, k in enumerate(mine)})
    return rows


def _unit(flow: Flow, rows: Sequence[Sequence[int]]) -> float:
    """Return how tall a second is."""
    most = max((sum(_size(flow.places[k]) for k in mine) for mine in rows), default=0.0)
    return _HEIGHT / most if most else 0.0


def _bar(one: FlowPlace, unit: float) -> float:
    return max(3.0, _size(one) * unit)


def _heights(flow: Flow, rows: Sequence[Sequence[int]], forward: Sequence[Ribbon], unit: float) -> list[float]:
    """Return where each place begins: beside what calls it, and below the one above it."""
    ys = [0.0] * len(flow.places)
    left = list(ys)  # how much of a place's bar ribbons took already
    for mine in rows:
        free = _TOP
        for k in mine:
            calling = [one for one in forward if one.callee == k]
            beside = min((ys[one.caller] + left[one.caller] for one in calling), default=_TOP)
            ys[k] = max(free, beside)
            free = ys[k] + _bar(flow.places[k], unit) + _SLOT
            for one in calling:
                left[one.caller] += (one.after_s or one.before_s) * unit
    return ys


def _ribbons(
    flow: Flow, forward: Sequence[Ribbon], xs: Sequence[float], ys: Sequence[float], unit: float, two: bool
) -> list[DrawnRibbon]:
    """Return the ribbons, each leaving and coming in below those above it."""
    leaving, coming = [0.0] * len(xs), [0.0] * len(xs)
    sums = [0.0] * len(xs)
    for ribbon in forward:
        sums[ribbon.caller] += ribbon.after_s or ribbon.before_s
    share = [min(1.0, _size(one) / sums[k]) if sums[k] else 1.0 for k, one in enumerate(flow.places)]
    found = []
    for ribbon in sorted(forward, key=lambda one: (ys[one.callee], ys[one.caller])):
        a, b = ribbon.caller, ribbon.callee
        wide = (ribbon.after_s or ribbon.before_s) * unit
        names = f"{place_label(flow.places[a].place)} > {place_label(flow.places[b].place)}"
        tip = f"{names}: {_seconds(ribbon.before_s, ribbon.after_s, two)}{_calls(ribbon, two)}"
        changed = two and not (ribbon.before_s and ribbon.after_s)
        found.append(
            DrawnRibbon(
                xs[a] + _BAR, ys[a] + leaving[a], xs[b], ys[b] + coming[b], max(0.6, wide),
                max(0.6, wide * share[a]), tip, changed,
            )
        )  # fmt: skip
        leaving[a], coming[b] = leaving[a] + wide * share[a], coming[b] + wide
    return found


def _calls(ribbon: Ribbon, two: bool) -> str:
    before, after = ribbon.calls_before, ribbon.calls_after
    if before is None or after is None:
        return ""
    word = "call" if after == 1 else "calls"
    return f", {before:,}, then {after:,} calls" if two and before != after else f", {after:,} {word}"
