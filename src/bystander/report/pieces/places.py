"""All places as a list that is found in, and the lines of some: pieces of a page on where time goes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby

from bystander.design import (
    BUILT_IN,
    Account,
    LinesOf,
    PlaceTable,
    calls_text,
    place_label,
    place_where,
    short_file,
    standing_text,
    told_change,
)
from bystander.units import duration_text

__all__ = ["AT_ONCE", "DrawnLine", "DrawnLines", "DrawnPlaces", "drawn_lines", "places_of_account", "places_of_table"]

AT_ONCE = 60  # places that are there at once; a script draws the others when they are found
_SHORT = 0.005  # of a function: a shorter line has no seconds beside it


@dataclass(frozen=True)
class DrawnPlaces:
    """Heads, and for each place its name, file and line, and cells."""

    heads: tuple[str, ...]
    rows: tuple[tuple[str, str, tuple[str, ...]], ...]
    at_once: int = AT_ONCE


def places_of_account(account: Account) -> DrawnPlaces:
    """Return the places of both arms, the largest change first."""
    heads = (f"{account.against}, whole", f"{account.arm}, whole", "change (interval)", "alone", "calls", "code")
    rows = []
    for one in sorted(account.places, key=lambda one: (-abs(one.whole.change_s), -one.whole.after_s)):
        built_in = one.place.kind == BUILT_IN
        before, after = (_told(s) for s in (one.whole.before_s, one.whole.after_s))
        alone = f"{_told(one.alone.before_s)}, then {_told(one.alone.after_s)}"
        if not one.alone.before_s and not one.alone.after_s:
            alone = "0"
        change = told_change(one.whole, not math.isnan(one.p_whole))
        seconds = ("", "", "", "") if built_in else (before, after, change, alone)
        rows.append(
            (
                _line(place_label(one.place)), _line(place_where(one.place, account.roots)),
                (*seconds, calls_text(one), standing_text(one.standing)),
            )
        )  # fmt: skip
    return DrawnPlaces(heads, tuple(rows))


def places_of_table(table: PlaceTable) -> DrawnPlaces:
    """Return the places of one state in its order."""
    rows = []
    for row in (*table.rows, *table.groups):
        calls = "" if row.calls is None else f"{'' if row.repeats else '~'}{row.calls:,}"
        file = f"{short_file(row.place.file, table.root)}:{row.place.line}" if row.place.file else ""
        per_call = _told(row.per_call_s) if row.per_call_s is not None else ""
        rows.append((_line(row.label), _line(file), (_told(row.whole_s), _told(row.alone_s), calls, per_call)))
    return DrawnPlaces(("whole", "alone", "calls", "per call"), tuple(rows))


def _line(name: str) -> str:
    """Return a name on one line: a program may name its functions as it likes."""
    return name.replace("\n", "\N{REPLACEMENT CHARACTER}")


def _told(seconds: float) -> str:
    return "" if math.isnan(seconds) else duration_text(seconds, 3) if seconds else "0"


@dataclass(frozen=True)
class DrawnLine:
    """A line of source: number, seconds with what it calls and without, text; and whether it weighs anything."""

    number: int
    whole: str
    alone: str
    text: str
    weighs: bool


@dataclass(frozen=True)
class DrawnLines:
    """One function under one arm or two, line by line."""

    label: str
    sides: tuple[tuple[str, str, tuple[DrawnLine, ...], str], ...]


def drawn_lines(found: Sequence[LinesOf]) -> list[DrawnLines]:
    """Return functions line by line, each with its arms beside each other."""
    by_label = groupby(found, key=lambda one: place_label(one.place))
    return [DrawnLines(label, tuple(_side(one) for one in mine)) for label, mine in by_label]


def _side(one: LinesOf) -> tuple[str, str, tuple[DrawnLine, ...], str]:
    told = {line.line: line for line in one.lines}
    numbers = range(one.first, one.first + len(one.source)) if one.source else sorted(told)
    lines = []
    for number in numbers:
        line = told.get(number)
        weighs = line is not None and line.whole_s >= _SHORT * one.whole_s
        seconds = (line.whole_s, line.alone_s) if line is not None and weighs else (0.0, 0.0)
        whole, alone = (duration_text(s, 3) if s else "" for s in seconds)
        text = one.source[number - one.first] if one.source else (line.text if line else None) or ""
        lines.append(DrawnLine(number, whole, alone, text.rstrip(), weighs))
    where = f"{short_file(one.place.file, one.root)}:{one.first}"
    return one.arm, f"{where}, {duration_text(one.whole_s)} a trial in all", tuple(lines), one.about
