"""How a table of rows fits into a width: numbers, verdicts and whole names come first, pictures give way."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from bystander.units import told_apart

__all__ = ["CHANGE", "GAP", "VERDICT", "Layout", "layout", "widest"]

CHANGE = "change (interval)"
GAP, VERDICT = 2, 9
_BLOCKS = 8
_LEAST_NAME, _LEAST_DRAWING, _MOST_DRAWING = 10, 12, 48


@dataclass(frozen=True)
class Layout:
    """What has room.

    Attributes
    ----------
    names : mapping or None
        What stands for each name, never two alike; None where each row takes two lines, with its whole name above.
    drawing : int
        Columns of the chart; 0 without it.
    medians : bool
        Whether blocks and medians are shown.
    """

    names: Mapping[str, str] | None
    drawing: int
    medians: bool = False


def widest(*texts: str) -> int:
    """Return the length of the longest text."""
    return max(map(len, texts))


def layout(width: int, names: Sequence[str], changes: Sequence[str], medians: Sequence[str] = ()) -> Layout:
    """Return how names, verdicts and changes fit: medians give way first, then the chart, then what names share.

    Parameters
    ----------
    medians : sequence of str
        Empty where they are not to be shown.
    """
    whole, longest = {name: name for name in names}, widest("workload", *names)
    rest = VERDICT + widest(CHANGE, *changes) + 2 * GAP
    if medians:
        left = width - longest - rest - _BLOCKS - widest("medians", *medians) - 3 * GAP
        if left >= 2 * _LEAST_DRAWING:
            return Layout(whole, min(_MOST_DRAWING, left), medians=True)
    left = width - longest - rest - GAP
    if left >= _LEAST_DRAWING:
        return Layout(whole, min(_MOST_DRAWING, left))
    if longest + rest <= width:
        return Layout(whole, 0)
    room = width - rest
    if room >= _LEAST_NAME and (forms := told_apart(names, room)):
        return Layout(forms, 0)
    left = width - rest - GAP  # below its name a row begins two columns further in
    return Layout(None, min(_MOST_DRAWING, left) if left >= _LEAST_DRAWING else 0)
