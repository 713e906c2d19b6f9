"""The outline: every path that weighs something, each a name and its seconds on one axis; and the same as a mirror."""

from __future__ import annotations

import math
from dataclasses import dataclass

from bystander.design import Branch, Outline, change_seconds, place_label, place_where
from bystander.units import counted, duration_text

__all__ = ["DrawnBranch", "DrawnOutline", "drawn_outline", "smaller_text"]

_EDGE = 2.5  # percent at both ends, so that no mark is cut
_DIGITS = 3
_WORTH = 0.005  # of the whole: less is not told beside a branch
_SPINE, _STEP, _DEEPEST = 1.6, 1.1, 14  # percent: of the mirror's spine, of a level, and how many levels step aside


@dataclass(frozen=True)
class DrawnBranch:
    """A branch with its places on the axis, in percent.

    Attributes
    ----------
    at, parent : int
        Positions; -1 for no parent.
    before, after : float
    low, high : float or None
        None where nothing is bounded.
    left, right : (float, float)
        In the mirror, from the spine outward: where the bars of before and after begin and end.
    whisker : (float, float) or None
        Ends of the interval about what is after, where a change is shown.
    told : str
        Seconds in words.
    """

    at: int
    parent: int
    depth: int
    label: str
    where: str
    before: float
    after: float
    low: float | None
    high: float | None
    left: tuple[float, float]
    right: tuple[float, float]
    whisker: tuple[float, float] | None
    told: str
    alone: str
    smaller: str
    shown: bool


@dataclass(frozen=True)
class DrawnOutline:
    """All branches on one axis of seconds from 0 to `end`."""

    branches: tuple[DrawnBranch, ...]
    two: bool
    arms: tuple[str, ...]
    end: str
    smaller: str
    spine: float = 50.0


def drawn_outline(outline: Outline) -> DrawnOutline:
    """Return an outline with its places on the axis."""
    most = max(_ends(one) for one in outline.branches) if outline.branches else 0.0
    room = 50 - _SPINE - _DEEPEST * _STEP - _EDGE

    def at(seconds: float) -> float:
        share = seconds / most if most else 0.0
        return round(_EDGE + min(1.0, max(0.0, share)) * (100 - 2 * _EDGE), 2)

    def aside(one: Branch, seconds: float, side: int) -> tuple[float, float]:
        begin = _SPINE + min(one.depth, _DEEPEST) * _STEP
        length = room * min(1.0, max(0.0, seconds / most)) if most else 0.0
        return round(50 + side * begin, 2), round(50 + side * (begin + length), 2)

    least = _WORTH * max(outline.whole.before_s, outline.whole.after_s)
    found = []
    for place, one in enumerate(outline.branches):
        s = one.whole
        bounded = outline.two and math.isfinite(s.low_s) and math.isfinite(s.high_s)
        ends = (s.before_s + s.low_s, s.before_s + s.high_s)
        whisker = (aside(one, ends[0], 1)[1], aside(one, ends[1], 1)[1]) if bounded and s.shown else None
        told = change_seconds(s) if outline.two else duration_text(s.after_s)
        alone = _both(one.alone_before_s, one.alone_after_s, least)
        rest = smaller_text(one.smaller, one.smaller_s, least)
        found.append(
            DrawnBranch(
                place, one.parent, one.depth, place_label(one.place), place_where(one.place, outline.roots),
                at(s.before_s), at(s.after_s), at(ends[0]) if bounded else None, at(ends[1]) if bounded else None,
                aside(one, s.before_s, -1), aside(one, s.after_s, 1), whisker, told, alone, rest,
                outline.two and s.shown,
            )
        )  # fmt: skip
    rest = smaller_text(outline.smaller, outline.smaller_s, least)
    return DrawnOutline(tuple(found), outline.two, outline.arms, duration_text(most, 2), rest)


def _ends(one: Branch) -> float:
    high = one.whole.before_s + one.whole.high_s
    return max(one.whole.before_s, one.whole.after_s, high if math.isfinite(high) and one.whole.shown else 0.0)


def _both(before_s: float, after_s: float, least_s: float) -> str:
    """Return seconds of both arms, "" where they are less than that."""
    if max(before_s, after_s) < least_s:
        return ""
    before, after = (duration_text(s, _DIGITS) if s else "0" for s in (before_s, after_s))
    return after if before == after else f"{before}, then {after}"


def smaller_text(count: int, seconds: tuple[float, float], least_s: float = 0.0) -> str:
    """Return what is taken together: "14 smaller places, 3 ms together"; "" for none, and for less than that."""
    told = _both(*seconds, least_s) if count and max(seconds) else ""
    return f"{counted(count, 'smaller place')}, {told}{' together' if count > 1 else ''}" if told else ""
