"""Single places on a terminal: who calls them, what they call, the way down, and their lines."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from bystander.cli.shown.console import can_draw, tell
from bystander.cli.shown.inside.accounts import VIEW_WORDS, Row, print_rows
from bystander.design import (
    Beside,
    BesideRow,
    Change,
    Down,
    LineOf,
    LinesOf,
    Neighbour,
    Neighbours,
    change_seconds,
    place_label,
    place_where,
    short_file,
)
from bystander.units import capital, duration_text, listed, numbered, plain_text

__all__ = ["print_beside", "print_down", "print_lines", "print_neighbours"]

_NAMED, _AROUND = 4, 2  # places that are named; lines around those that took time
_FIGURE = 9  # letters of a number
_LONGEST = 0.005  # of the place: a shorter line has no seconds beside it


def print_neighbours(console: Console, found: Neighbours) -> None:
    """Print who calls a place, or what it calls: parts that sum to its whole."""
    names = listed(list(dict.fromkeys(place_label(place) for place in found.places)), _NAMED)
    what = f"who calls {names}" if found.above else f"what {names} calls"
    console.print(f"{found.run}: {found.workload}, {what}", style="title")
    two = len(found.arms) == 2
    if two:
        tell(console, f"In all {change_seconds(found.whole)}: {duration_text(found.whole.before_s)} under "
                      f"{found.arms[0]}, {duration_text(found.whole.after_s)} under {found.arms[1]}.")  # fmt: skip
    else:
        tell(console, f"In all {duration_text(found.whole.after_s)} a trial under {found.arms[0]}.")
    console.print()
    if not found.rows:
        console.print("Nobody is seen there." if found.above else "Nothing is seen there.")
        return
    rows = [_row(one, found, two) for one in found.rows]
    print_rows(console, rows, [_each(one, found, two) for one in found.rows])
    console.print()
    marks = ("○ before, ● after, ━ interval" if can_draw() else "o before, * after, - interval") if two else ""
    parts = [VIEW_WORDS[found.view], *([marks] if marks else []), "parts are disjoint and sum to the whole"]
    tell(console, f"{capital('; '.join(parts))}.", style="quiet")


def _row(one: Neighbour, found: Neighbours, two: bool) -> Row:
    where = place_where(one.place, found.roots) if one.place else ""
    label = place_label(one.place) if one.place else "(nobody that was seen)" if found.above else "(itself)"
    change = change_seconds(one.seconds) if two else duration_text(one.seconds.after_s, 3)
    seconds: Change | None = one.seconds
    if two and not one.seconds.before_s and not one.seconds.after_s:
        change, seconds = "", None  # it has calls only
    return Row(label, where, seconds, change if seconds else "", _calls(one, two))


def _calls(one: Neighbour, two: bool) -> str:
    if one.calls_after is None:
        return ""
    if two and one.calls_before != one.calls_after:
        return f"{one.calls_before:,} > {one.calls_after:,}"
    return f"{one.calls_after:,}"


def _each(one: Neighbour, found: Neighbours, two: bool) -> str:
    """Say how often that is for one call of the caller."""
    if one.each_after is None and one.each_before is None:
        return ""
    caller = place_label(one.place) if found.above and one.place else "it"
    before, after = (_times(value) for value in (one.each_before, one.each_after))
    return f"{after if not two or before == after else f'{before}, then {after}'} in one call of {caller}"


def _times(value: float | None) -> str:
    """Return how often: "never", "once", "3.5 times", "19,200 times"."""
    if not value:
        return "never"
    return "once" if value == 1 else f"{value:,.0f} times" if value >= 100 else f"{value:.3g} times"


def print_down(console: Console, found: Sequence[Down]) -> None:
    """Print the way down of each arm, on one line each where there is room."""
    first = found[0]
    console.print(f"{first.run}: {first.workload}, down to where the time is spent", style="title")
    for one in found:
        if not one.steps:
            console.print(f"{one.arm}: nothing was seen there.")
            continue
        way = " > ".join(plain_text(place_label(step.place)) for step in one.steps)
        last = one.steps[-1]
        more = "" if last.whole_s <= 1.001 * one.alone_s else f", {duration_text(last.whole_s, 3)} with what it calls"
        tell(
            console, f"{one.arm}: {way}, alone {duration_text(one.alone_s, 3)} of {duration_text(one.total_s, 3)}{more}"
        )
    tell(console, f"{capital(VIEW_WORDS[first.view])}, a trial; each step is the longest part of the one before.",
         style="quiet")  # fmt: skip


def print_lines(console: Console, found: LinesOf) -> None:
    """Print a function's source with the seconds of each line, with what it calls and without."""
    where = f"{short_file(found.place.file, found.root)}:{found.first}"
    name = plain_text(place_label(found.place))
    console.print(f"{found.run}: {found.workload} under {found.arm}, {name} ({where})", style="title")
    console.print(f"{duration_text(found.whole_s)} a trial in all its lines.")
    console.print()
    digits = max(4, len(str(found.last)))
    console.print(f"{'line':>{digits}}  {'whole':>8}  {'alone':>8}  source", style="quiet")
    told = {one.line: one for one in found.lines if one.whole_s >= _LONGEST * found.whole_s}
    shown = _shown(found, told)
    last = None
    for number in shown:
        if last is not None and number > last + 1:
            console.print(f"{'':>{digits}}  {'':>8}  {'':>8}  ...", style="quiet")
        console.print(_line(found, number, told.get(number), digits), no_wrap=True, overflow="ellipsis", crop=True)
        last = number
    small = sum(one.whole_s for one in found.lines if one.line not in told)
    if small:
        console.print(f"Other lines {duration_text(small, 2)} together.", style="quiet")
    if found.about:
        tell(console, found.about, style="quiet")


def _shown(found: LinesOf, told: dict[int, LineOf]) -> list[int]:
    """Return the lines that took time, with some around them where the source is there."""
    if not found.source:
        return sorted(told)
    near = {line + away for line in (*told, found.first) for away in range(-_AROUND, _AROUND + 1)}
    return sorted(line for line in near if found.first <= line <= found.last)


def _line(found: LinesOf, number: int, one: LineOf | None, digits: int) -> Text:
    whole, alone = (duration_text(s, 3) if s else "" for s in ((one.whole_s, one.alone_s) if one else (0.0, 0.0)))
    at = number - found.first
    text = found.source[at] if 0 <= at < len(found.source) else (one.text if one else None) or ""
    return Text(
        f"{number:>{digits}}  {whole:>8}  {alone:>8}  {plain_text(text).rstrip()}", style="" if one else "quiet"
    )


def print_beside(console: Console, found: Beside, first: int | None) -> None:
    """Print two inspections of different hours: what is called otherwise, then the longest places."""
    console.print(f"{found.workload}: {found.then}, then {found.now}", style="title")
    told = f"{duration_text(found.whole_then_s, 3)}, then {duration_text(found.whole_now_s, 3)} a trial"
    tell(console, f"{told}: of different hours, so that seconds are shown and not compared; calls are exact.")
    console.print()
    differing = [row for row in found.rows if row.differs]
    others = [row for row in found.rows if not row.differs and any(s == s and s > 0 for s in (row.then_s, row.now_s))]
    shown = [*differing[:first], *others[: None if first is None else max(0, first - len(differing))]]
    names = [plain_text(place_label(row.place)) for row in shown]
    figures = 4 * (2 + _FIGURE) if found.counted else 2 * (2 + _FIGURE)
    width = max(14, min(console.width - figures - 2, max(map(len, names), default=14)))
    titles = ("then", "now", *(("calls", "now") * found.counted))
    console.print(f"{'place':<{width}}" + "".join(f"  {title:>{_FIGURE}}" for title in titles), style="quiet")
    forms = numbered(names, width)
    for name, row in zip(names, shown, strict=True):
        mark = "≠" if row.differs and can_draw() else "!" if row.differs else ""
        console.print(
            Text(f"{forms[name]:<{width}}{_figures(row, found.counted)} {mark}".rstrip()), no_wrap=True, crop=False
        )
    left = len(differing) + len(others) - len(shown)
    if left:
        console.print(f"{left} places more: --all", style="quiet")
    console.print()
    calls = (
        f"Calls differ at {len(differing)} of {len(found.rows)} places." if found.counted else "Calls were not counted."
    )
    tell(console, f"{calls} {capital(VIEW_WORDS[found.view])}, with what each place calls.", style="quiet")


def _figures(row: BesideRow, counted: bool) -> str:
    told = [duration_text(s, 3) if s == s and s else "-" for s in (row.then_s, row.now_s)]
    told += ["-" if n is None else f"{n:,}" for n in (row.calls_then, row.calls_now)] if counted else []
    return "".join(f"  {one:>{_FIGURE}}" for one in told)
