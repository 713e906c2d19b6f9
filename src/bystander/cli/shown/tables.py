"""Tables and drawings for the terminal: 80 columns, with or without colour, with or without Unicode."""

from __future__ import annotations

import math
import textwrap
from collections import Counter
from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from bystander.cli.shown.console import can_draw
from bystander.cli.shown.layout import CHANGE, GAP, VERDICT, layout, widest
from bystander.units import counted, quantity_text, share_text, told_apart
from bystander.verdicts import (
    Axis,
    Decision,
    Order,
    Relevance,
    Row,
    Scale,
    Single,
    Verdict,
    beyond_text,
    blocks_text,
    ceiling_notes,
    ceiling_text,
    change_text,
    contribution_text,
    medians_text,
    minutes_sentence,
    quoted_texts,
    shared_axis,
)

__all__ = ["MARKS", "print_ceilings", "print_quoted", "print_rows", "print_secondary", "print_singles", "rows_to_show"]

MARKS = {
    "slower": "▲", "more": "▲", "higher": "▲", "faster": "▼", "less": "▼", "lower": "▼", "same": "=", "unclear": "○",
    "failed": "✕", "broken": "▲", "holds": "=",
}  # fmt: skip
_PLAIN_MARKS = {
    "slower": "^", "more": "^", "higher": "^", "faster": "v", "less": "v", "lower": "v", "same": "=", "unclear": "?",
    "failed": "x", "broken": "^", "holds": "=",
}  # fmt: skip
_PLAIN = str.maketrans("━●┊░▏▕─○", "-*|.  -o")
_WIDE = 112
_CEILING_STYLES = {"broken": "slower", "unclear": "unclear", "holds": "same"}
_QUOTED, _NOT_TESTED = ("least", "middle", "greatest"), "not tested"
_OTHER = "other measure"
_WHOLE = "the whole"
_MOST_ROWS, _MOST_QUOTED = 30, 5
_MEDIAN = "median (interval)"
_LEAST_NAME, _LEAST_CHART = 8, 12


def mark(verdict: str) -> str:
    """Return the shape that stands for a verdict."""
    return (MARKS if can_draw() else _PLAIN_MARKS)[verdict]


def rows_to_show(rows: Sequence[Row], everything: bool) -> tuple[list[Row], dict[str, int]]:
    """Return the rows worth a line, and how many others there are by verdict.

    Up to `_MOST_ROWS` all are shown. Beyond, what changed or failed comes first, each verdict's share of
    the lines in the order of the rows; the same and the unclear are counted.
    """
    if everything or len(rows) <= _MOST_ROWS:
        return list(rows), {}
    changed = [row for row in rows if row.verdict not in (Verdict.SAME, Verdict.UNCLEAR)][:_MOST_ROWS]
    unclear = [row for row in rows if row.verdict == Verdict.UNCLEAR][: max(0, min(5, _MOST_ROWS - len(changed)))]
    kept = {id(row) for row in changed + unclear}
    counted = Counter(row.verdict for row in rows if id(row) not in kept)
    return [row for row in rows if id(row) in kept], {str(verdict): count for verdict, count in counted.items()}


def print_rows(console: Console, decision: Decision, everything: bool = False) -> None:
    """Print one row per comparison, worst first, with the interval drawn on a shared axis."""
    rows, counted = rows_to_show(decision.primary, everything)
    if rows:
        _print_table(console, decision, rows)
    if counted:
        shown = ", ".join(f"{count} {verdict}" for verdict, count in counted.items())
        console.print(f"and {shown}: --all-rows shows them.", style="quiet")


def _print_table(console: Console, decision: Decision, rows: Sequence[Row]) -> None:
    axis = shared_axis(rows)
    names = [decision.name_of(row) for row in rows]
    changes, medians = [change_text(row) for row in rows], [medians_text(row) for row in rows]
    whole = [_of_whole(decision, row) for row in rows] if decision.order == Order.CONTRIBUTION else []
    room = console.width - (widest(_WHOLE, *whole) + GAP if whole else 0)
    plan = layout(room, names, changes, medians if console.width >= _WIDE else ())
    if plan.names is None:
        changes = [f"{change}; whole {text}" if text else change
                   for change, text in zip(changes, whole or [""] * len(rows), strict=True)]  # fmt: skip
        _print_in_two(console, rows, names, changes, axis, plan.drawing if not whole else 0)
        return
    table = Table(box=None, padding=(0, GAP, 0, 0), pad_edge=False, header_style="quiet", show_edge=False)
    table.add_column("workload", no_wrap=True)
    table.add_column("verdict", width=VERDICT, no_wrap=True)
    if plan.medians:
        table.add_column("blocks", justify="right", no_wrap=True)
        table.add_column("medians", no_wrap=True)
    table.add_column(CHANGE, no_wrap=True)
    if whole:
        table.add_column(_WHOLE, justify="right", no_wrap=True)
    if plan.drawing:
        table.add_column(_axis_head(rows, plan.drawing), width=plan.drawing, no_wrap=True)
    for i, (row, name, change, both) in enumerate(zip(rows, names, changes, medians, strict=True)):
        verdict = Text(f"{mark(row.verdict)} {row.verdict}", style=row.verdict)
        middle = [blocks_text(row), both] if plan.medians else []
        chart = [_drawn(row, axis, plan.drawing)] if plan.drawing else []
        table.add_row(plan.names[name], verdict, *middle, change, *whole[i : i + 1], *chart)
    if plan.drawing:
        before = [""] * (3 + 2 * plan.medians + bool(whole))
        table.add_row(*before, Text(_axis_foot(axis, plan.drawing), style="quiet"))
    console.print(table)


def _of_whole(decision: Decision, row: Row) -> str:
    """Return by how much a row moves the whole load; "" where it has no part in it."""
    loads = [load for load in decision.loads if (load.arm, load.against) == (row.arm, row.against)]
    return contribution_text(loads[0], row.workload) if loads else ""


def _print_in_two(
    console: Console, rows: Sequence[Row], names: Sequence[str], changes: Sequence[str], axis: Axis, drawing: int
) -> None:
    """Print each row in two lines: its whole name, and below it verdict, change and, where it has room, the chart."""
    width = widest(CHANGE, *changes)

    def line(verdict: Text, change: str, chart: Text) -> Text:
        shown = Text.assemble("  ", verdict, " " * (VERDICT + GAP - len(verdict)), change)
        return shown.append(" " * (width + GAP - len(change))).append_text(chart) if drawing else shown

    head = Text(_axis_head(rows, drawing) if drawing else "")
    console.print(line(Text("verdict"), CHANGE, head), style="quiet")
    for row, name, change in zip(rows, names, changes, strict=True):
        _print_name(console, name)
        verdict = Text(f"{mark(row.verdict)} {row.verdict}", style=row.verdict)
        console.print(line(verdict, change, _drawn(row, axis, drawing) if drawing else Text()))
    if drawing:
        console.print(line(Text(), "", Text(_axis_foot(axis, drawing))), style="quiet")


def _print_name(console: Console, name: str) -> None:
    """Print the whole name of a row, on as many lines as it takes; what follows the first is set in."""
    lines = textwrap.wrap(
        name, console.width, subsequent_indent="    ", drop_whitespace=False, replace_whitespace=False
    )
    console.print("\n".join(lines), no_wrap=True, crop=False)


def _axis_head(rows: Sequence[Row], width: int) -> str:
    more, less = rows[0].measure.words
    half = width // 2
    return f"{'< ' + less:<{half}}{more + ' >':>{width - half}}"


def _axis_foot(axis: Axis, width: int) -> str:
    """Return the labels of the axis: both ends and the middle."""
    end = axis.reach
    label = f"{end:.1f}x" if end >= 1.5 else share_text(end - 1)
    left = f"1/{label}" if end >= 1.5 else "-" + share_text(1 - 1 / end)
    half = width // 2
    return (left.ljust(half) + "1" + label.rjust(width - half - 1))[:width]


def _drawn(row: Row, axis: Axis, width: int) -> Text:
    """Draw margin, interval and estimate of a row on the axis."""
    if row.scale != Scale.RATIO:
        return Text("(a difference)", style="quiet")
    cells = [" "] * width

    def at(ratio: float) -> int:
        return min(width - 1, int(axis.place(ratio) * width))

    for i in range(at(1 / (1 + row.margin)), at(1 + row.margin) + 1):
        cells[i] = "░"
    cells[at(1.0)] = "┊"
    if row.looked_at:
        for i in range(at(row.low), at(row.high) + 1):
            cells[i] = "━"
    if not math.isnan(row.estimate):
        cells[at(row.estimate)] = "○" if row.verdict == Verdict.UNCLEAR else "●"
    text = "".join(cells)
    drawn = Text(text if can_draw() else text.translate(_PLAIN))
    for i, cell in enumerate(cells):
        drawn.stylize("quiet" if cell in "░┊" else row.verdict, i, i + 1)
    return drawn


def print_secondary(console: Console, decision: Decision, everything: bool) -> tuple[int, int]:
    """Print other measures that changed beyond the margin, or all; return how many are shown, and how many not."""
    changed = [row for row in decision.secondary if row.changed]
    shown = [
        row
        for row in (decision.secondary if everything else changed)
        if everything or row.relevance == Relevance.BEYOND or row.scale == Scale.DIFFERENCE
    ]
    shown = shown if everything else shown[:12]
    if not shown:
        return 0, len(changed)
    names = [decision.name_of(row) for row in shown]
    changes, medians = [change_text(row) for row in shown], [medians_text(row) for row in shown]
    rest = widest(_OTHER, *(row.measure.label for row in shown)) + VERDICT + widest(CHANGE, *changes) + 3 * GAP
    wide = console.width >= _WIDE and widest("workload", *names) + rest + GAP + widest(*medians) <= console.width
    room = console.width - rest - (GAP + widest("medians", *medians) if wide else 0)
    forms = told_apart(names, room) if room >= _LEAST_NAME else None
    table = Table(box=None, padding=(0, GAP, 0, 0), pad_edge=False, header_style="quiet", show_edge=False)
    for title in ("workload", _OTHER, "verdict", CHANGE, *(["medians"] if wide else [])):
        table.add_column(title, width=VERDICT if title == "verdict" else None, no_wrap=True)
    for row, name, text, both in zip(shown, names, changes, medians, strict=True):
        verdict = Text(f"{mark(row.verdict)} {row.verdict}", style=row.verdict)
        if forms:
            table.add_row(forms[name], row.measure.label, verdict, text, *([both] if wide else []))
        else:  # two lines a row
            _print_name(console, f"{name}, {row.measure.label}")
            console.print(Text.assemble("  ", verdict, " " * (VERDICT + GAP - len(verdict)), text))
    if forms:
        console.print(table)
    return len(shown), len(changed) - len(shown)


def print_quoted(console: Console, decision: Decision, everything: bool = False) -> None:
    """Print least, middle and greatest of the first rows: what people quote, and nothing is tested on."""
    rows = decision.primary if everything else decision.primary[:_MOST_QUOTED]
    if not rows:
        return
    texts, names = [quoted_texts(row) for row in rows], [decision.name_of(row) for row in rows]
    widths = [widest(title, *(text[k] for text in texts)) for k, title in enumerate(_QUOTED)]
    forms = told_apart(names, console.width - sum(widths) - 3 * GAP)
    console.print()
    if forms is None:
        for name, text in zip(names, texts, strict=True):
            said = ", ".join(f"{title} {value}" for title, value in zip(_QUOTED, text, strict=True))
            console.print(f"{name}, {_NOT_TESTED}: {said}", style="quiet")
    else:
        table = Table(box=None, padding=(0, GAP, 0, 0), pad_edge=False, header_style="quiet", show_edge=False)
        for title in (_NOT_TESTED, *_QUOTED):
            table.add_column(title, no_wrap=True)
        for name, text in zip(names, texts, strict=True):
            table.add_row(forms[name], *text, style="quiet")
        console.print(table)
    if rest := len(decision.primary) - len(rows):
        console.print(f"and {counted(rest, 'row')} more: --all-rows shows them.", style="quiet")


def print_ceilings(console: Console, decision: Decision) -> None:
    """Print a line for each ceiling under each arm, the broken first, and what speaks against it."""
    table = Table(box=None, padding=(0, GAP, 0, 0), pad_edge=False, header_style="quiet", show_edge=False)
    table.add_column("ceiling", overflow="fold")
    for title in ("arm", "verdict", "beyond"):
        table.add_column(title, no_wrap=title != "beyond")
    shown = decision.ceilings[:_MOST_ROWS]
    for row in shown:
        asked = f"{row.workload}, {ceiling_text(row, decision.measure.name)}"
        verdict = Text(f"{mark(row.verdict)} {row.verdict}", style=_CEILING_STYLES[row.verdict])
        table.add_row(asked, row.arm, verdict, ", ".join([beyond_text(row), *ceiling_notes(row)]))
    console.print(table)
    if rest := len(decision.ceilings) - len(shown):
        console.print(f"and {counted(rest, 'ceiling')} more: --json names them.", style="quiet")
    if told := minutes_sentence(decision):
        console.print(told)


def print_singles(console: Console, singles: Sequence[Single]) -> None:
    """Print a row for each workload under each arm: its median, and where its readings lie.

    The chart reaches from the least reading to the most: pale where there are readings, a bar for the interval, and
    the median as its mark.
    """
    several = len({single.arm for single in singles}) > 1
    names = [f"{single.workload} · {single.arm}" if several else single.workload for single in singles]
    medians = [_median_text(single) for single in singles]
    ends = [_ends(single) for single in singles]
    left, right = (widest(*(pair[k] for pair in ends)) for k in (0, 1))
    rest = widest(_MEDIAN, *medians) + left + right + 3 * GAP
    forms = told_apart(names, console.width - rest - _LEAST_CHART - GAP)
    drawing = console.width - rest - widest("workload", *(forms or {}).values()) - GAP if forms else 0
    drawing = max(0, min(48, drawing if forms else console.width - rest - GAP))
    table = Table(box=None, padding=(0, GAP, 0, 0), pad_edge=False, header_style="quiet", show_edge=False)
    for title in ("workload", _MEDIAN, "least"):
        table.add_column(
            title, no_wrap=title != _MEDIAN, overflow="fold", justify="right" if title == "least" else "left"
        )
    if drawing >= _LEAST_CHART:
        table.add_column("", width=drawing, no_wrap=True)
    table.add_column("most", no_wrap=True)
    for single, name, median, (low, high) in zip(singles, names, medians, ends, strict=True):
        chart = [_single_drawn(single, drawing)] if drawing >= _LEAST_CHART else []
        if forms is None:
            console.print(f"{name}: {median}, {low} to {high}")
        else:
            table.add_row(forms[name], median, low, *chart, high)
    if forms:
        console.print(table)


def _ends(single: Single) -> tuple[str, str]:
    s = single.summary
    return (quantity_text(s.least, single.measure.unit), quantity_text(s.most, single.measure.unit)) if s else ("", "")


def _median_text(single: Single) -> str:
    s, unit = single.summary, single.measure.unit
    if s is None:
        return f"all {single.failed} trials failed"
    failed = f", {single.failed} failed" if single.failed else ""
    if not math.isfinite(s.median_low):
        return f"{quantity_text(s.median, unit)} (too few for an interval){failed}"
    level = f"{math.floor(s.confidence * 1000) / 10:g} %"
    ends = f"{quantity_text(s.median_low, unit)} to {quantity_text(s.median_high, unit)}"
    return f"{quantity_text(s.median, unit)} ({ends}, {level}){failed}"


def _single_drawn(single: Single, width: int) -> Text:
    """Draw the readings of one row between its least and its most."""
    s = single.summary
    if s is None:
        return Text("")
    reach = s.most - s.least

    def at(value: float) -> int:
        return min(width - 1, max(0, int((value - s.least) / reach * width))) if reach > 0 else width // 2

    cells = [" "] * width
    for value in single.values.tolist():
        cells[at(value)] = "░"
    if math.isfinite(s.median_low):
        for i in range(at(s.median_low), at(s.median_high) + 1):
            cells[i] = "━"
    cells[at(s.median)] = "●"
    text = "".join(cells)
    drawn = Text(text if can_draw() else text.translate(_PLAIN))
    for i, cell in enumerate(cells):
        if cell == "░":
            drawn.stylize("quiet", i, i + 1)
    return drawn
