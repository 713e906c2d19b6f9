"""How fast, typical and slow trials of a row moved: each quantile of the candidate over that of the reference."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from bystander.report.pieces.forest import Bar, Forest, axis_of, place_on
from bystander.units import share_text
from bystander.verdicts import Axis, Distribution, Shift

__all__ = ["ShiftLine", "Shifts", "shifts"]

_WIDEST = 100.0


@dataclass(frozen=True)
class ShiftLine:
    """A quantile: its name, its place on the axis where it is bounded, and its ratio in words."""

    name: str
    bar: Bar | None
    text: str


@dataclass(frozen=True)
class Shifts:
    """All quantiles that the trials are enough for, on an axis of their own.

    Attributes
    ----------
    heading : str
        What the ratios are of.
    lacking : str
        Which others there would be, and the trials that they take; "" for none.
    asides : tuple of str
        How far trials scatter, and how many are slow.
    """

    forest: Forest
    lines: tuple[ShiftLine, ...]
    heading: str
    lacking: str
    asides: tuple[str, ...]


def shifts(one: Distribution | None, margin: float) -> Shifts | None:
    """Return the shifts of a row; None where it has none."""
    if one is None:
        return None
    shown = [shift for shift in one.shifts if not shift.needed]
    axis = _axis(shown, margin)
    asides = [f"Trials typically lie {share_text(one.spread[0], 2)} from the median in {one.against}, "
              f"{share_text(one.spread[1], 2)} in {one.arm}."]  # fmt: skip
    if one.slow:
        (before, of_before), (after, of_after) = one.slow
        asides.append(
            f"Beyond the 90th percentile of {one.against} lie {before} of its {of_before} trials, and {after} of "
            f"{of_after} of {one.arm}."
        )
    lines = tuple(ShiftLine(_name(s.share), _bar(axis, s), _ratio(s)) for s in shown)
    heading = f"{one.arm} / {one.against} (95 %)"
    return Shifts(axis_of(axis, margin, "slower", "faster", 3), lines, heading, _lacking(one.shifts), tuple(asides))


def _axis(shown: Sequence[Shift], margin: float) -> Axis:
    reach = 1 + 1.5 * margin
    for shift in shown:
        for value in (shift.ratio, shift.low, shift.high):
            if 0 < value < math.inf:
                reach = max(reach, value, 1 / value)
    return Axis(min(reach * 1.05, _WIDEST))


def _bar(axis: Axis, shift: Shift) -> Bar:
    left, at, right = (place_on(axis, value) for value in (shift.low, shift.ratio, shift.high))
    cut = shift.low < 1 / axis.reach, shift.high > axis.reach
    return Bar(left, right, at, *cut, "dot", "plain", True)


def _name(share: float) -> str:
    return "median" if share == 0.5 else f"{100 * share:g}th percentile"


def _ratio(shift: Shift) -> str:
    ratio, low, high = (f"{v:.2f}" if v < 10 else f"{v:.0f}" for v in (shift.ratio, shift.low, shift.high))
    return f"{ratio} ({low} to {high})"


def _lacking(every: Sequence[Shift]) -> str:
    lacking: dict[int, list[str]] = {}
    for shift in every:
        if shift.needed:
            lacking.setdefault(shift.needed, []).append(_name(shift.share))
    needs = "; ".join(f"{' and '.join(names)}: {needed}" for needed, names in sorted(lacking.items()))
    return f"Trials that it takes of each arm for the others: {needs}." if needs else ""
