"""A ladder for the terminal: two lines a link at 80 columns, its own gain drawn below what is said of it."""

from __future__ import annotations

import math
from dataclasses import replace

from rich.console import Console
from rich.text import Text

from bystander.cli.shown.console import can_draw, tell
from bystander.cli.shown.layout import GAP, VERDICT, widest
from bystander.cli.shown.tables import mark
from bystander.design import Given, command_line
from bystander.units import counted, listed, moment_text, quantity_text, shortened
from bystander.verdicts import (
    Ladder,
    Row,
    Rung,
    Scale,
    StepAxis,
    Verdict,
    change_text,
    edit_text,
    gain_of,
    ladder_axis,
    ladder_lines,
    ladder_notes,
    rung_state,
    so_far_text,
)

__all__ = ["print_ladder"]

_DRAWING, _WIDE_DRAWING, _WIDE = 33, 45, 112
_MOST_RUNGS, _MOST_NAME = 40, 18
_BEHIND = 13  # columns of a number behind the gain
_PLAIN = str.maketrans("━●┊░○", "-*|.o")


def print_ladder(
    console: Console, ladder: Ladder, all_rows: bool = False, given: Given | None = None, hint: bool = True,
    named: bool = False,
) -> None:  # fmt: skip
    """Print a ladder: its links in their order, what it says, and what one would do next.

    Parameters
    ----------
    named : bool
        Whether its record was asked for by its name, so that it need not be the newest.
    """
    head, study = ladder.head, ladder.head.study
    console.print(f"{head.name}: {study.name}", style="title")
    for note in head.notes:
        console.print(note)
    if not head.complete:
        console.print("The observation was not finished: links are decided on the blocks that are whole.")
    what = study.chain.what if study.chain else ""
    states = f"{what}, {counted(len(study.arms), 'state')}" if what else counted(len(study.arms), "state")
    console.print(f"{states}, by {ladder.measure.label}; {moment_text(head.started_wall_s)}", style="quiet")
    console.print()
    _print_rungs(console, ladder, all_rows)
    console.print()
    for text in (*ladder_notes(ladder), *ladder_lines(ladder)):
        tell(console, text)
    for text in _next(ladder, given or Given(), named) if hint else ():
        tell(console, text)


def _print_rungs(console: Console, ladder: Ladder, all_rows: bool) -> None:
    axis = ladder_axis(ladder)
    drawing = _WIDE_DRAWING if console.width >= _WIDE else _DRAWING
    rungs = ladder.rungs if all_rows else ladder.rungs[:_MOST_RUNGS]
    gains = [gain_of(rung, ladder) for rung in rungs]
    names = [shortened(rung_state(rung), _MOST_NAME) for rung in rungs]
    first = shortened(ladder.first_name, _MOST_NAME)
    name, change = widest(first, "state", *names), widest("own gain", *(text for _, text in gains))
    numbers = len(str(len(ladder.rungs)))
    begin = " " * (numbers + 1) if ladder.numbered else ""
    indent = begin or "  "  # of what stands below a rung
    fixed = len(begin) + name + GAP + VERDICT + GAP + max(change, len("own gain")) + GAP
    columns = min(2, (console.width - fixed) // _BEHIND) if ladder.kind.climbs and ladder.alone else 0
    behind = columns > 0
    own = "own gain" if ladder.alone else "own gain, whole load" if _loads(ladder) else "own gain, geometric mean"
    change = max(change, len(own))
    head = f"{begin}{'state':<{name + GAP}}{'verdict':<{VERDICT + GAP}}{own:<{change + GAP}}"
    console.print(Text(head + _behind(("so far", "time"), columns), style="quiet"))
    if behind:
        unit = ladder.measure.unit
        gap = " " * (VERDICT + GAP + change + GAP)
        began = quantity_text(ladder.first[0], unit)
        console.print(f"{'0':>{numbers}} {first:<{name + GAP}}{gap}{_behind(('', began), columns)}")
    for rung, (verdict, text), short in zip(rungs, gains, names, strict=True):
        line = Text((f"{rung.number:>{numbers}} " if ladder.numbered else "") + f"{short:<{name + GAP}}")
        line.append(f"{mark(verdict)} {verdict}".ljust(VERDICT + GAP), style=verdict).append(f"{text:<{change + GAP}}")
        if behind:
            so_far = rung.so_far[0]
            median = quantity_text(so_far.median, ladder.measure.unit) if math.isfinite(so_far.median) else "none"
            line.append(_behind((so_far_text(so_far), median), columns))
        console.print(line)
        _print_edit(console, ladder, rung, axis, drawing, indent)
        if not ladder.alone:
            _print_workloads(console, rung, all_rows, indent)
    if len(rungs) < len(ladder.rungs):
        console.print(f"and {len(ladder.rungs) - len(rungs)} more: --all-rows shows them.", style="quiet")
    room = console.width - len(indent) - drawing
    console.print(Text(f"{indent}{'':<{room}}{_foot(axis, drawing)}", style="quiet"))


def _behind(texts: tuple[str, str], columns: int) -> str:
    """Return how far it had come and how long it took, as far as there is room: beside each other, or the first."""
    return f"{texts[0]:>13} {texts[1]:>9}" if columns > 1 else f"{texts[0]:>13}" if columns else ""


def _loads(ladder: Ladder) -> bool:
    return any(rung.load is not None for rung in ladder.rungs)


def _print_edit(
    console: Console, ladder: Ladder, rung: Rung, axis: StepAxis, drawing: int, indent: str
) -> None:  # fmt: skip
    """Print what an edit says of itself and how large it is, and its own gain drawn."""
    room = console.width - len(indent) - drawing - GAP
    size = edit_text(rung.link.size)
    subject = shortened(rung.link.subject, max(8, room - len(size) - 1))
    line = Text(f"{indent}{f'{subject} {size}'.strip():<{room + GAP}}", style="quiet")
    if ladder.alone:
        row = rung.rows[0]
        line.append_text(_drawn(row.estimate, row.low, row.high, row.verdict, axis, drawing, ladder.margin, row.scale))
    elif rung.together is not None and rung.together.known:
        one, (verdict, _) = rung.together, gain_of(rung, ladder)
        drawn = _drawn(one.ratio, one.low, one.high, verdict, axis, drawing, ladder.margin, Scale.RATIO)
        line.append_text(drawn)
    console.print(line, no_wrap=True, crop=False)


def _print_workloads(console: Console, rung: Rung, all_rows: bool, indent: str) -> None:
    """Print the workloads of a link that changed or failed, and count the others."""
    shown = [row for row in rung.rows if all_rows or row.verdict not in (Verdict.SAME, Verdict.UNCLEAR)]
    name = widest("", *(row.workload for row in shown)) if shown else 0
    for row in shown:
        line = Text(f"{indent}  {row.workload:<{name + GAP}}")
        line.append(f"{mark(row.verdict)} {row.verdict}".ljust(VERDICT + GAP), style=row.verdict)
        console.print(line.append(change_text(row)))
    others = [row for row in rung.rows if row not in shown]
    if others and shown:
        console.print(f"{indent}  {_counted(others)}", style="quiet")


def _counted(rows: list[Row]) -> str:
    said = []
    for verdict in dict.fromkeys(row.verdict for row in rows):
        names = [row.workload for row in rows if row.verdict == verdict]
        said.append(f"{verdict}: {listed(names, 3)}")
    return "; ".join(said)


def _drawn(
    estimate: float, low: float, high: float, verdict: str, axis: StepAxis, width: int, margin: float, scale: Scale
) -> Text:  # fmt: skip
    if scale != Scale.RATIO:
        return Text("(a difference)", style="quiet")
    if math.isnan(estimate) and low <= 0 and high == math.inf:
        return Text()  # nothing is known
    cells = [" "] * width

    def at(ratio: float) -> int:
        return min(width - 1, int(axis.place(ratio) * width))

    for i in range(at(1 / (1 + margin)), at(1 + margin) + 1):
        cells[i] = "░"
    cells[at(1.0)] = "┊"
    for i in range(at(max(low, 0.0)), at(high) + 1):
        cells[i] = "━"
    if not math.isnan(estimate):
        cells[at(estimate)] = "○" if verdict == Verdict.UNCLEAR else "●"
    text = "".join(cells)
    drawn = Text(text if can_draw() else text.translate(_PLAIN))
    for i, cell in enumerate(cells):
        drawn.stylize("quiet" if cell in "░┊" else verdict, i, i + 1)
    return drawn


def _foot(axis: StepAxis, width: int) -> str:
    """Return the labels below the drawings: as many as have room."""
    line = [" "] * width
    for tick in sorted(axis.ticks(6), key=lambda t: -abs(axis.place(t) - 0.5)):
        text = _label(tick)
        middle = int(axis.place(tick) * width)
        begin = min(max(0, middle - len(text) // 2), width - len(text))
        if all(cell == " " for cell in line[max(0, begin - 1) : begin + len(text) + 1]):
            line[begin : begin + len(text)] = text
    return "".join(line)


def _label(tick: float) -> str:
    if tick == 1:
        return "0"
    ratio = max(tick, 1 / tick)
    text = f"{ratio:g}x" if ratio >= 2 else f"{100 * (ratio - 1):.0f}%"
    return f"{'+' if ratio < 2 else ''}{text}" if tick > 1 else f"{'-' if ratio < 2 else '1/'}{text}"


def _next(ladder: Ladder, given: Given, named: bool) -> list[str]:
    """Return what one would do next, commands on lines of their own."""
    changed = [rung for rung in ladder.rungs if gain_of(rung, ladder)[0] in ladder.measure.words]
    open_ones = [rung for rung in changed if not rung.fate]
    name, words = ladder.head.name, list[tuple[str, ...]]()
    if ladder.head.resumable:
        return ["Next: finish it:", f"  {command_line('observe', '--resume', name, given=replace(given, only=()))}"]
    if open_ones and ladder.kind.climbs:
        which = ("--record", name) if named else ()
        gains = [rung for rung in open_ones if gain_of(rung, ladder)[0] == ladder.measure.words[1]]
        words.append(("settle", (gains or open_ones)[0].link.name, "kept", *which, "--because", "..."))
    climbs = ladder.kind.climbs and ladder.head.observed_here
    if apart := [rung for rung in ladder.rungs if rung.link.size and rung.link.size.lumped and climbs]:
        words.append(("chain", name, "--hunks", apart[0].link.name))
    words.append(("chain", name, "--to", "ladder.html"))
    return ["Next:", *(f"  {command_line(*each, given=given)}" for each in words)]
