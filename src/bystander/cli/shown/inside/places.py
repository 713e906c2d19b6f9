"""Where the time went, as a table: the place's name first, its seconds as a bar on one axis, figures after."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.text import Text

from bystander.cli.shown.console import can_draw, tell
from bystander.cli.shown.inside.beyond import print_expected, print_hints
from bystander.design import BUILT_IN, PlaceRow, PlaceTable, place_label, short_file
from bystander.units import capital, counted, duration_text, numbered, plain_text, shortened

__all__ = ["FIRST", "print_places"]

FIRST = 15
_GAP, _NUMBER, _LEAST_BAR, _MOST_BAR, _LEAST_NAME, _MOST_NAME = 2, 8, 12, 44, 16, 40
_WIDE = 118  # from here on a row is one line, with file and line at its end
_SMALL = 0.001  # of the longest: a smaller place is taken together with others
_TASKS = 5  # names of threads and processes that are told
_WAITING = 0.1  # of a place's time alone: beyond, a row says what it waits for
_WORTH = 0.01  # of the whole: a shorter wait is not told
_OFTEN = 10  # times in one call of its caller: beyond, a row says so
_SMALL_PROGRAM = 0.02  # the same of a program without frames
_SETTLED = 5  # places that are settled and named
_FEW = 100  # readings, below which two digits are all that is known
_VIEWS = {
    "elapsed": "elapsed time of the main thread, followed into what it waits for",
    "processor": "time on a processor, of all threads and processes",
    "waiting": "time waited, by all threads and processes",
}


def print_places(console: Console, table: PlaceTable, order: str, first: int = FIRST, everything: bool = False) -> None:
    """Print a table of places with what is known of it as a whole."""
    console.print(f"{table.run}: {table.workload} under {table.arm}", style="title")
    console.print(_summary(table))
    console.print()
    order = order if table.readings else "calls"
    settled = [row for row in table.rows if row.settled and not everything]
    shown, small = _chosen([row for row in table.rows if everything or not row.settled], order, first, everything)
    groups = table.groups
    drawn = _Drawn(console.width, [*shown, *groups], table)
    for line in drawn.head():
        console.print(line, no_wrap=True, crop=False)
    for row in shown:
        for line in drawn.lines(row):
            console.print(line, no_wrap=True, crop=False)
    if small:
        console.print(_together(small, first), style="quiet")
    for row in settled[:_SETTLED]:
        tell(console, f"Settled: {row.label}, {duration_text(row.whole_s, 3)}, {row.fate}", style="quiet")
    if len(settled) > _SETTLED:
        console.print(f"{len(settled) - _SETTLED} more settled: --all", style="quiet")
    for row in groups:
        for line in drawn.lines(row):
            console.print(line, no_wrap=True, crop=False)
    console.print()
    for sentence in table.sentences:
        console.print(sentence)
    if sum(task.count for task in table.tasks) > 1.5:
        console.print(_tasks(table))
    if order != "calls" and (text := _built_ins(table)):
        console.print(text)
    print_expected(console, table.expected)
    print_hints(console, table.hints, (table.root,), 1)
    if table.expected or table.hints:
        console.print()
    for text in (f"{capital(_VIEWS[table.view])}; {_key()}.", *table.about):
        tell(console, text, style="quiet")


def _summary(table: PlaceTable) -> str:
    """Say what the whole took, where that went, how many calls there were and what watching cost."""
    if not table.readings:
        return f"{_calls(table)}; nothing was watched."
    each = " a trial" if table.trials > 1 else ""
    parts = [f"{duration_text(table.elapsed_s)}{each}"]
    if table.view == "elapsed":
        waited = f"{duration_text(table.waiting_s)} waiting{_for(table)}"
        parts = [f"{parts[0]}: {duration_text(table.processor_s)} on a processor, {waited}"]
    elif table.view == "processor":
        parts.append(f"{duration_text(table.cpu_s)} on processors by all threads and processes")
    else:
        parts.append(f"{duration_text(table.waiting_s)} waited by all threads and processes{_for(table)}")
    parts.append(_calls(table))
    cost = f"watching took {table.cost:.2f} of the unwatched time" if table.cost else "what watching cost is not known"
    parts.append(cost)
    many = f"{counted(table.trials, 'trial')}, {counted(table.readings, 'reading')}"
    return "; ".join(parts) + f"; {many}."


def _calls(table: PlaceTable) -> str:
    return "calls not counted" if table.calls is None else f"{table.calls:,} calls"


def _for(table: PlaceTable) -> str:
    parts = sorted(table.waits.items(), key=lambda one: -one[1])[:3]
    told = [f"{name} {duration_text(seconds, 2)}" for name, seconds in parts if seconds >= 0.02 * table.elapsed_s]
    return f" ({', '.join(told)})" if told else ""


def _chosen(
    rows: Sequence[PlaceRow], order: str, first: int, everything: bool
) -> tuple[Sequence[PlaceRow], Sequence[PlaceRow]]:
    """Return the rows that are shown, and those that are taken together."""
    if everything:
        return rows, ()
    if order == "calls":
        return rows[:first], ()
    longest = max((row.whole_s for row in rows if row.whole_s == row.whole_s), default=0.0)
    known = [row for row in rows if row.whole_s == row.whole_s]
    # Of programs without frames only those that weigh something: a script that starts another starts a dozen more.
    shown = [row for row in known if row.whole_s >= _least(row) * longest and row.whole_s > 0][:first]
    held = {row.place for row in shown}
    return shown, [row for row in known if row.place not in held and row.whole_s > 0]


def _least(row: PlaceRow) -> float:
    """Return the share of the longest place below which a row is taken together with others."""
    return _SMALL_PROGRAM if row.place.kind == "program" else _SMALL


def _together(rows: Sequence[PlaceRow], first: int) -> str:
    alone = sum(row.alone_s for row in rows)
    return f"{counted(len(rows), 'place')} more, alone {duration_text(alone, 2)} together: --first {first * 3}, --all"


def _tasks(table: PlaceTable) -> str:
    """Name threads and processes by what they took; those of one name are taken together."""
    told = []
    for task in table.tasks[:_TASKS]:
        several = f" ({task.count:,.0f} of them)" if task.count > 1.5 else ""
        told.append(f"{task.name}{several} {duration_text(task.processor_s, 2)}")
    rest = sum(task.processor_s for task in table.tasks[_TASKS:])
    if len(table.tasks) > _TASKS:
        told.append(f"{len(table.tasks) - _TASKS} more names {duration_text(rest, 2)}")
    return f"Threads and processes, on a processor: {', '.join(told)}."


def _built_ins(table: PlaceTable) -> str:
    most = sorted((row for row in table.rows if row.place.kind == BUILT_IN), key=lambda row: -(row.calls or 0))[:4]
    told = ", ".join(f"{row.label} {row.calls:,}" for row in most)
    return f"Built-ins called most: {told}; their seconds stand with the line that calls them." if most else ""


def _key() -> str:
    filled, hollow = _marks()
    return f"{filled} alone, {hollow} in what it calls"


def _marks() -> tuple[str, str]:
    return ("■", "□") if can_draw() else ("#", "-")


class _Drawn:
    """How rows fit into a width: on one line each where there is room, else with file and bar on a second one."""

    def __init__(self, width: int, rows: Sequence[PlaceRow], table: PlaceTable) -> None:
        self._table, self._calls = table, table.calls is not None
        self._whole = max((row.whole_s for row in rows if row.whole_s == row.whole_s), default=0.0)
        figures = (4 if self._calls else 2) * (_NUMBER + _GAP)
        self._width, self._wide = width, width >= _WIDE
        names = max((len(row.label) for row in rows), default=_LEAST_NAME)
        files = max((len(self._where(row)) for row in rows), default=_LEAST_NAME)
        if self._wide:
            self._where_width = min(files, _MOST_NAME)
            room = width - figures - self._where_width - _GAP
            self._name = max(_LEAST_NAME, min(names, room - _LEAST_BAR - _GAP))
            self._bar = min(_MOST_BAR, room - self._name - _GAP)
        else:
            self._name = max(_LEAST_NAME, min(max(names, files + _GAP), width - figures))
            self._where_width = max(_LEAST_NAME, min(files, width - _LEAST_BAR - 2 * _GAP))
            self._where_width = (
                min(self._where_width, self._name - _GAP) if self._name > _LEAST_NAME else self._where_width
            )
            self._bar = min(_MOST_BAR, width - self._where_width - 2 * _GAP)
        self._forms = numbered([_plain(row.label) for row in rows], self._name)  # never two alike

    def head(self) -> list[Text]:
        """Return the head with the axis."""
        end = duration_text(self._whole, 2)
        axis = "0" + end.rjust(self._bar - 1)
        titles = "".join(
            f"{title:>{_NUMBER + _GAP}}" for title in ("whole", "alone", *(("calls", "per call") * self._calls))
        )
        if self._wide:
            text = "place".ljust(self._name) + " " * _GAP + axis + titles + "  file and line"
            return [Text(text, style="quiet")]
        first = "place".ljust(self._name) + titles
        return [
            Text(first, style="quiet"),
            Text("  " + "file and line".ljust(self._where_width) + "  " + axis, style="quiet"),
        ]

    def lines(self, row: PlaceRow) -> list[Text]:
        """Return a row as one line, or two where there is little room."""
        name, where = self._forms[_plain(row.label)].ljust(self._name), self._where(row)
        more = self._more(row)
        digits = 2 if row.whole_readings < _FEW else 3
        figures = [self._seconds(row.whole_s, digits), self._seconds(row.alone_s, digits)]
        if self._calls:
            figures += [self._number(row), self._seconds(row.per_call_s, digits)]
        told = "".join(f"{figure:>{_NUMBER + _GAP}}" for figure in figures)
        if self._wide:
            line = Text(name + " " * _GAP).append(self._drawing(row)).append(told)
            lines = [line.append("  " + shortened(where, self._where_width), style="quiet")]
            return [*lines, Text("  " + shortened(_plain(more), self._width - 2), style="quiet")] if more else lines
        drawing = self._drawing(row).rstrip()
        if not where and not drawing:
            return [Text(name + told)]
        last = [Text("  " + shortened(_plain(more), self._width - 2), style="quiet")] if more else []
        second = Text("  " + shortened(where, self._where_width).ljust(self._where_width) + "  ", style="quiet")
        return [Text(name + told), second.append(drawing, style="default"), *last]

    def _drawing(self, row: PlaceRow) -> str:
        if not self._whole or row.whole_s != row.whole_s:
            return " " * self._bar
        filled, hollow = _marks()
        whole = round(row.whole_s / self._whole * self._bar)
        alone = min(whole, round(row.alone_s / self._whole * self._bar))
        return (filled * alone + hollow * (whole - alone)).ljust(self._bar)

    @staticmethod
    def _seconds(seconds: float | None, digits: int) -> str:
        if seconds is None or math.isnan(seconds):
            return ""
        return duration_text(seconds, digits) if seconds else "0"

    @staticmethod
    def _number(row: PlaceRow) -> str:
        if row.calls is None:
            return ""
        return ("" if row.repeats else "~") + f"{row.calls:,}"

    def _where(self, row: PlaceRow) -> str:
        if not row.place.file:
            return ""
        return _plain(f"{short_file(row.place.file, self._table.root)}:{row.place.line}")

    def _more(self, row: PlaceRow) -> str:
        """Say what its calls and waits are, where the place weighs anything."""
        if row.whole_s < _WORTH * self._whole:
            return row.fate
        told = [f"{row.inner:,} of the calls came from within itself"] if row.inner else []
        told += [f"gone on with {row.resumed:,} times"] if row.resumed else []
        least = max(_WAITING * row.alone_s, _WORTH * self._table.elapsed_s)
        told += [_waits(row.waits)] if sum(row.waits.values()) >= least > 0 else []
        often = [one for one in row.callers if one.each >= _OFTEN]
        told += [f"{one.each:,.0f} times in one call of {place_label(one.place)}" for one in often[:1]]
        return "; ".join(part for part in (", ".join(told), row.fate) if part)


def _waits(waits: Mapping[str, float]) -> str:
    """Say what was waited for."""
    whole = sum(waits.values())
    parts = [one for one in sorted(waits.items(), key=lambda one: -one[1]) if one[1] >= _WAITING * whole]
    return "alone it waits: " + ", ".join(f"{name} {duration_text(seconds, 2)}" for name, seconds in parts)


def _plain(text: str) -> str:
    """Return a name on one line, without anything that a terminal would obey."""
    return plain_text(text).replace("\n", "\N{REPLACEMENT CHARACTER}")
