"""Where it changed, on a terminal: the account first, then leads on one axis of seconds, then what to do."""

from __future__ import annotations

import math
import textwrap
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from rich.console import Console
from rich.text import Text

from bystander.cli.shown.console import can_draw, tell
from bystander.cli.shown.inside.beyond import print_expected, print_hints
from bystander.design import (
    BUILT_IN,
    VIEWS,
    Account,
    Change,
    Lead,
    PlaceChange,
    account_sentences,
    calls_text,
    cost_text,
    lead_label,
    lead_sentence,
    place_label,
    place_where,
    slowed_text,
    standing_text,
    told_change,
    try_sentence,
)
from bystander.units import capital, counted, duration_text, numbered, plain_text, shortened

__all__ = ["VIEW_WORDS", "Row", "print_account", "print_changes", "print_rows"]

_GAP, _LEAST_NAME, _MOST_NAME, _LEAST_AXIS, _MOST_AXIS = 2, 14, 40, 24, 44
_MOST_WHERE = 52
_PLAIN = str.maketrans({"●": "*", "○": "o", "━": "-", "├": "[", "┤": "]"})
_SUBJECTS = 5
VIEW_WORDS = {VIEWS[0]: "elapsed time of the main thread", VIEWS[1]: "CPU time of all", VIEWS[2]: "waits of all"}


class Row(NamedTuple):
    """What a line shows of a place; no seconds where it has calls only."""

    label: str
    where: str
    seconds: Change | None
    change: str
    calls: str


class _Axis:
    """One axis of seconds from 0 to the longest, on which a ring stands before and a dot after."""

    def __init__(self, changes: Sequence[Change], width: int) -> None:
        ends = [value for one in changes for value in (one.before_s, one.after_s, _end(one))]
        self.most, self.width = max([value for value in ends if math.isfinite(value)], default=0.0), width

    def head(self) -> str:
        """Return the ends of the axis."""
        end = duration_text(self.most, 2) if self.most else ""
        return "0" + end.rjust(self.width - 1)

    def drawn(self, change: Change) -> str:
        """Return a change: the interval lies about what is after."""
        cells = [" "] * self.width
        if not self.most:
            return "".join(cells)
        low, high = (self._at(change.before_s + end) for end in (change.low_s, change.high_s))
        if math.isfinite(change.low_s) and math.isfinite(change.high_s):
            for cell in range(low, high + 1):
                cells[cell] = "━"
        cells[self._at(change.before_s)] = "○"
        cells[self._at(change.after_s)] = "●"
        text = "".join(cells)
        return text if can_draw() else text.translate(_PLAIN)

    def _at(self, seconds: float) -> int:
        if not math.isfinite(seconds):
            return 0 if seconds < 0 else self.width - 1
        return min(self.width - 1, max(0, round(seconds / self.most * (self.width - 1))))


def _end(change: Change) -> float:
    return change.before_s + change.high_s


def print_account(console: Console, account: Account, first: int) -> None:
    """Print the account of one workload with its leads, worst first."""
    console.print(
        f"{account.run}: {account.workload}, {account.against} (○) and {account.arm} (●)".translate(
            {} if can_draw() else _PLAIN
        ),
        style="title",
    )
    for sentence in account_sentences(account):
        tell(console, sentence)
    leads = account.leads[:first]
    if leads:
        console.print()
        rows = [
            Row(lead_label(lead), _where(lead, account), lead.timed, told_change(lead.timed), calls_text(lead))
            for lead in leads
        ]
        print_rows(console, rows, [_said(lead) for lead in leads])
        if len(account.leads) > first:
            console.print(f"{len(account.leads) - first} more leads: --first {len(account.leads)}", style="quiet")
    print_expected(console, account.expected)
    print_hints(console, account.hints, account.roots, len(account.leads) + 1)
    _print_about(console, account)


def _said(lead: Lead) -> str:
    """Return what is known beside how its code stands, which is told with its file."""
    seconds = "no change of time is shown" if not lead.explains and not lead.seconds.shown else ""
    text = lead_sentence(lead)
    if not lead.moved_from and (stands := standing_text(lead.standing)) and lead.place.file:
        text = text.removeprefix(stands).removeprefix(", ")
    told = ", ".join(part for part in (text, seconds) if part)
    moved = "its code has moved on since" if lead.moved_on else ""
    surprise = f"a surprise: {lead.surprise}" if lead.surprise else ""
    return "; ".join(part for part in (told, surprise, moved, lead.fate) if part)


def _where(lead: Lead, account: Account) -> str:
    stands = "" if lead.moved_from else standing_text(lead.standing)
    return _joined(place_where(lead.place, account.roots), stands)


def _joined(where: str, stands: str) -> str:
    return f"{where}, {stands}" if where and stands else where


def print_rows(console: Console, rows: Sequence[Row], said: Sequence[str]) -> None:
    """Print places: name, change and calls, and the axis beside file and line; one line where there is room."""
    names, changes = [plain_text(row.label) for row in rows], [row.change for row in rows]
    calls = max((len(row.calls) for row in rows), default=0)
    calls = max(calls, len("calls")) if calls else 0
    change = max(len("change (interval)"), *map(len, changes))
    figures = change + _GAP + (calls + _GAP if calls else 0)
    name = max(_LEAST_NAME, min(_MOST_NAME, max(map(len, names)), console.width - figures - 2 * _GAP))
    where = min(_MOST_WHERE, max(len("file and line"), *(len(row.where) for row in rows)))
    width = min(_MOST_AXIS, console.width - name - figures - where - 3 * _GAP)
    wide = width >= _LEAST_AXIS
    if not wide:
        where = min(where, console.width - _LEAST_AXIS - 3 * _GAP)
        width = min(_MOST_AXIS, console.width - where - 3 * _GAP)
    axis = _Axis([row.seconds for row in rows if row.seconds], width)
    forms = numbered(names, name)
    titles = f"{'change (interval)':<{change}}" + (f"{'calls':>{calls + _GAP}}" if calls else "")
    if wide:
        console.print(Text(f"{'place':<{name + _GAP}}{axis.head()}{' ' * _GAP}{titles}  file and line", style="quiet"))
    else:
        console.print(Text(f"{'place':<{name + _GAP}}{titles}", style="quiet"))
        console.print(Text(f"  {'file and line'[:where]:<{where + _GAP}}{axis.head()}", style="quiet"))
    for plain, row, more in zip(names, rows, said, strict=True):
        told = f"{row.change:<{change}}" + (f"{row.calls:>{calls + _GAP}}" if calls else "")
        at = shortened(plain_text(row.where), where)
        drawn = axis.drawn(row.seconds) if row.seconds else " " * width
        if wide:
            line = Text(f"{forms[plain]:<{name + _GAP}}").append(drawn).append(f"{' ' * _GAP}{told}")
            console.print(line.append(f"  {at}", style="quiet"), no_wrap=True, crop=False)
        else:
            console.print(Text(f"{forms[plain]:<{name + _GAP}}{told}".rstrip()), no_wrap=True, crop=False)
            second = Text(f"  {at:<{where + _GAP}}", style="quiet").append(drawn.rstrip(), style="default")
            console.print(second, no_wrap=True, crop=False)
        if more:
            lines = textwrap.wrap(plain_text(more), console.width, initial_indent="  ", subsequent_indent="  ")
            console.print("\n".join(lines), style="quiet")


def _print_about(console: Console, account: Account) -> None:
    """Print what limits the account, and what to do with its first lead."""
    console.print()
    for packages in account.packages[:_SUBJECTS]:
        tell(console, f"Outside the arms differs: {plain_text(packages)}.")
    if account.subjects:
        more = len(account.subjects) - _SUBJECTS
        console.print("Commits between the arms:" + (f" ({more} more)" if more > 0 else ""))
        for subject in account.subjects[:_SUBJECTS]:
            console.print(Text(f"  {plain_text(subject)}"), no_wrap=True, overflow="ellipsis")
    if text := try_sentence(account):
        tell(console, text)
    marks = "○ before, ● after, ━ interval" if can_draw() else "o before, * after, - interval"
    level = f"{100 * account.confidence:.0f} %"
    blocks = counted(account.blocks, "block")
    parts = [capital(f"{VIEW_WORDS[account.view]}; {blocks}; {marks}, at {level} for all places together")]
    if text := cost_text(account):
        parts.append(text)
    if account.slowed is not None:
        parts.append(slowed_text(account))
    if account.repeats is False:
        parts.append("Not all calls repeat between two counting trials; those that do not are no evidence")
    for text in (*(f"{part}." for part in parts), *account.about):
        tell(console, text, style="quiet")


def print_changes(console: Console, account: Account, order: str, first: int, everything: bool) -> None:
    """Print all places of both arms in an order, with what changed."""
    rows = sorted(account.places, key=_ORDERS[order])
    shown = rows if everything else rows[:first]
    alone = order == "alone"
    console.print()
    console.print(f"All places by {order}, {'without' if alone else 'with'} what they call:", style="title")
    told = []
    for one in shown:
        label = _joined(place_where(one.place, account.roots), standing_text(one.standing))
        seconds = None if one.place.kind == BUILT_IN else one.alone if alone else one.whole
        tested = not math.isnan(one.p_alone if alone else one.p_whole)
        told.append(Row(place_label(one.place), label, seconds, told_change(seconds, tested), calls_text(one)))
    print_rows(console, told, [""] * len(told))
    if len(rows) > len(shown):
        console.print(f"{counted(len(rows) - len(shown), 'place')} more: --all", style="quiet")


def _largest(*numbers: float | None) -> float:
    return -max((number for number in numbers if number is not None and number == number), default=0.0)


_ORDERS: dict[str, Callable[[PlaceChange], Any]] = {
    "change": lambda one: (_largest(abs(one.whole.change_s)), one.depth, place_label(one.place)),
    "whole": lambda one: (_largest(one.whole.before_s, one.whole.after_s), one.depth, place_label(one.place)),
    "alone": lambda one: (_largest(one.alone.before_s, one.alone.after_s), one.depth, place_label(one.place)),
    "calls": lambda one: (_largest(one.calls_before, one.calls_after), one.depth, place_label(one.place)),
    "per-call": lambda one: (_largest(one.per_call_s(False), one.per_call_s(True)), one.depth, place_label(one.place)),
}
