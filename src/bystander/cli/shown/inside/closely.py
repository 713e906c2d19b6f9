"""Functions that were looked at closely, on a terminal: lines beside how often they ran, and calls by arguments."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from bystander.cli.shown.console import can_draw, tell
from bystander.design import CloseUp, GivenLine, place_label, short_file
from bystander.units import plain_text

__all__ = ["print_arguments", "print_executions"]


def print_executions(console: Console, found: Sequence[CloseUp]) -> None:
    """Print each function's lines that ran, with how often, and how often for one call."""
    for at, one in enumerate(found):
        if at:
            console.print()
        _head(console, one)
        mark = "" if one.repeats is not False else "~"
        runs = [f"{mark}{line.runs:,}" for line in one.lines]
        wide = max([4, *map(len, runs)])
        digits = max([4, *(len(str(line.line)) for line in one.lines)])
        console.print(f"{'line':>{digits}}  {'runs':>{wide}}  {'a call':>8}  source", style="quiet")
        last = None
        for told, line in zip(runs, one.lines, strict=True):
            if last is not None and line.line > last + 1:
                console.print(f"{'':>{digits}}  ...", style="quiet")
            for shown in _lines(console, told, line, digits, wide):
                console.print(shown, no_wrap=True, overflow="ellipsis", crop=True)
            last = line.line
        _foot(console, one, sentences=False)


def _lines(console: Console, runs: str, line: GivenLine, digits: int, wide: int) -> list[Text]:
    """Return a line of source, and what its count means: behind it where there is room, else below."""
    each = "" if line.each is None else f"{line.each:,.3g}" if line.each < 1000 else f"{line.each:,.0f}"
    front = f"{line.line:>{digits}}  {runs:>{wide}}  {each:>8}  "
    text = plain_text(line.text).replace("\n", " ")
    if not line.said:
        return [Text(front + text)]
    said = Text(f"{'←' if can_draw() else '<-'} {plain_text(line.said)}", style="quiet")
    if len(front) + len(text) + 2 + len(said) <= console.width:
        return [Text(f"{front}{text}  ").append_text(said)]
    return [Text(front + text), Text(" " * len(front)).append_text(said)]


def print_arguments(console: Console, found: Sequence[CloseUp]) -> None:
    """Print each function's calls against how many of them were given what no other was, and each parameter so."""
    for at, one in enumerate(found):
        if at:
            console.print()
        _head(console, one)
        names = [plain_text(parameter.name) for parameter in one.seen.parameters]
        wide = max([9, *map(len, names)])
        if names:
            console.print(f"{'parameter':<{wide}}  {'distinct':>9}", style="quiet")
        for name, parameter in zip(names, one.seen.parameters, strict=True):
            notes = (
                [f"by object: {', '.join(plain_text(kind) for kind in parameter.objects)}"] if parameter.objects else []
            )
            notes += ["some too large"] if parameter.cut else []
            line = Text(f"{name:<{wide}}  {parameter.distinct:>9,}")
            console.print(
                line.append(f"  {'; '.join(notes)}".rstrip(), style="quiet"), no_wrap=True, overflow="ellipsis"
            )
        _foot(console, one, sentences=True)


def _head(console: Console, one: CloseUp) -> None:
    where = f"{short_file(one.seen.place.file, one.root)}:{one.seen.place.line}"
    console.print(f"{one.run}: {one.workload} under {one.arm}, {place_label(one.seen.place)} ({where})", style="title")
    more = f", gone on with {one.seen.resumed:,} times" if one.seen.resumed else ""
    items = "".join(f"; {value:,.0f} {name}" for name, value in one.items)
    calls = "1 call" if one.seen.calls == 1 else f"{one.seen.calls:,} calls"
    tell(console, f"{calls} a trial{more}{items}.")


def _foot(console: Console, one: CloseUp, sentences: bool) -> None:
    for sentence in one.sentences if sentences else ():
        tell(console, sentence)
    repeats = {True: "Two trials told the same.", None: "Counted once only.", False: ""}[one.repeats]
    for text in (repeats, *one.about):
        if text:
            tell(console, text, style="quiet")
