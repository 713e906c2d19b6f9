"""Slow trials beside typical ones, on a terminal."""

from __future__ import annotations

from rich.console import Console

from bystander.cli.shown.console import can_draw, tell
from bystander.cli.shown.inside.accounts import Row, print_rows
from bystander.design import SlowTrials, change_seconds, place_label, place_where
from bystander.units import counted, duration_text

__all__ = ["print_slow"]

_NAMED = 3
_WORTH = 0.1  # of the difference: a wait that makes less of it is not told


def print_slow(console: Console, found: SlowTrials, first: int, everything: bool) -> None:
    """Print how slow trials differ from typical ones: the whole, then each part that weighs something."""
    console.print(f"{found.run}: {found.workload} under {found.arm}, slow trials", style="title")
    tell(
        console,
        f"{counted(found.trials, 'trial')} watched, {found.slow} of them slow: beyond {duration_text(found.end_s, 3)}, "
        f"where the middle one takes {duration_text(found.middle_s, 3)}.",
    )
    for text in found.about:
        tell(console, text)
    if not found.slow:
        return
    shown = found.shown
    told = [f"{change_seconds(one.seconds)} lie in {place_label(one.place)}" for one in shown[:_NAMED]]
    more = f", and {counted(len(shown) - _NAMED, 'more place')}" if len(shown) > _NAMED else ""
    lies = f"Of that, {'; '.join(told)}{more}." if told else "In no place by itself are they shown to differ."
    tell(console, f"Slow trials take {change_seconds(found.whole)} more than typical ones. {lies}")
    grown = found.whole.change_s
    waits = sorted(found.waits.items(), key=lambda one: one[1][0] - one[1][1])
    told = [f"{name} {_both(*both)}" for name, both in waits if both[1] - both[0] >= _WORTH * grown > 0]
    if told:
        tell(console, f"Waits that grew, for: {', '.join(told[:_NAMED])}.")
    console.print()
    rows = [
        Row(place_label(one.place), place_where(one.place, (found.root,)), one.seconds, change_seconds(one.seconds), "")
        for one in found.places[: None if everything else first]
    ]
    print_rows(console, rows, [""] * len(rows))
    if len(rows) < len(found.places):
        console.print(f"{counted(len(found.places) - len(rows), 'place')} more: --all", style="quiet")
    console.print()
    marks = "○ typical, ● slow, ━ interval" if can_draw() else "o typical, * slow, - interval"
    tell(
        console,
        f"{marks}; each place with the libraries that it calls; intervals hold together for all, at 95 %, over trials.",
        style="quiet",
    )


def _both(typical_s: float, slow_s: float) -> str:
    typical, slow = (duration_text(s, 2) if s else "0" for s in (typical_s, slow_s))
    return f"{typical}, then {slow}"
