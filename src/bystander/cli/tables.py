"""Tables and drawings for the terminal: 80 columns, with or without colour, with or without Unicode."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from bystander.cli.console import can_draw
from bystander.units import quantity_text, share_text, shortened
from bystander.verdicts import Axis, Decision, Row, Single, change_text, medians_text, shared_axis

__all__ = ["MARKS", "print_rows", "print_secondary", "print_singles", "rows_to_show"]

MARKS = {
    "slower": "▲", "more": "▲", "higher": "▲", "faster": "▼", "less": "▼", "lower": "▼", "same": "=", "unclear": "○",
    "failed": "✕",
}  # fmt: skip
_PLAIN_MARKS = {
    "slower": "^", "more": "^", "higher": "^", "faster": "v", "less": "v", "lower": "v", "same": "=", "unclear": "?",
    "failed": "x",
}  # fmt: skip
_PLAIN = str.maketrans("━●┊░▏▕─○", "-*|.  -o")
_BARS = "▁▂▃▄▅▆▇█"
_WIDE = 112
_OTHER = "other measure"
_MOST_ROWS = 30
_CHANGE = "change (interval)"


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
    changed = [row for row in rows if row.verdict not in ("same", "unclear")][:_MOST_ROWS]
    unclear = [row for row in rows if row.verdict == "unclear"][: max(0, min(5, _MOST_ROWS - len(changed)))]
    kept = {id(row) for row in changed + unclear}
    counted = Counter(row.verdict for row in rows if id(row) not in kept)
    return [row for row in rows if id(row) in kept], dict(counted)


def print_rows(console: Console, decision: Decision, everything: bool = False) -> None:
    """Print one row per comparison, worst first, with the interval drawn on a shared axis."""
    rows, counted = rows_to_show(decision.primary, everything)
    if rows:
        _print_table(console, decision, rows)
    if counted:
        told = ", ".join(f"{count} {verdict}" for verdict, count in counted.items())
        console.print(f"and {told}: --all-rows shows them.", style="quiet")


def _print_table(console: Console, decision: Decision, rows: Sequence[Row]) -> None:
    axis = shared_axis(rows)
    wide = console.width >= _WIDE
    several = len(decision.candidates) > 1
    names = [f"{row.workload} · {row.arm}" if several else row.workload for row in rows]
    name_width = min(max([len(name) for name in names] + [8]), 34 if wide else 22)
    changes = [change_text(row) for row in rows]
    fixed = name_width + 9 + _fit([_CHANGE, *changes], 40) + 6 + (32 if wide else 0)
    drawing = max(12, min(48, console.width - fixed))
    table = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="quiet", show_edge=False)
    table.add_column("workload", width=name_width, no_wrap=True)
    table.add_column("verdict", width=9, no_wrap=True)
    if wide:
        table.add_column("blocks", width=6, justify="right")
        table.add_column("medians", width=22, no_wrap=True)
    table.add_column(_CHANGE, no_wrap=True)
    table.add_column(_axis_head(rows, drawing), width=drawing, no_wrap=True)
    for row, name, change in zip(rows, names, changes, strict=True):
        middle = [str(row.blocks or "-"), medians_text(row)] if wide else []
        verdict = Text(f"{mark(row.verdict)} {row.verdict}", style=row.verdict)
        table.add_row(shortened(name, name_width), verdict, *middle, change, _drawn(row, axis, drawing))
    table.add_row(*[""] * (5 if wide else 3), Text(_axis_foot(axis, drawing), style="quiet"))
    console.print(table)


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
    if row.scale != "ratio":
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
        cells[at(row.estimate)] = "○" if row.verdict == "unclear" else "●"
    text = "".join(cells)
    drawn = Text(text if can_draw() else text.translate(_PLAIN))
    for i, cell in enumerate(cells):
        drawn.stylize("quiet" if cell in "░┊" else row.verdict, i, i + 1)
    return drawn


def print_secondary(console: Console, decision: Decision, everything: bool) -> tuple[int, int]:
    """Print other measures that changed beyond the margin, or all; return how many are shown, and how many not."""
    changed = [row for row in decision.secondary if row.verdict in row.measure.words]
    shown = [
        row
        for row in (decision.secondary if everything else changed)
        if everything or row.relevance == "beyond" or row.scale == "difference"
    ]
    shown = shown if everything else shown[:12]
    if not shown:
        return 0, len(changed)
    several = len(decision.candidates) > 1
    names = [f"{row.workload} · {row.arm}" if several else row.workload for row in shown]
    changes, medians = [change_text(row) for row in shown], [medians_text(row) for row in shown]
    wide = console.width >= _WIDE
    # On a narrow terminal names give way, then labels: a number that is cut would be another number.
    change = _fit([_CHANGE, *changes], 50)
    label = _fit([_OTHER, *(row.measure.label for row in shown)], max(13, min(28, console.width - change - 23)))
    room = 34 if wide else max(8, console.width - label - 9 - change - 6)
    table = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="quiet", show_edge=False)
    table.add_column("workload", width=_fit(["workload", *names], room), no_wrap=True)
    table.add_column(_OTHER, width=label, no_wrap=True, overflow="ellipsis")
    table.add_column("verdict", width=9, no_wrap=True)
    table.add_column(_CHANGE, width=change, no_wrap=True)
    if wide:
        table.add_column("medians", no_wrap=True)
    for row, name, text, both in zip(shown, names, changes, medians, strict=True):
        verdict = Text(f"{mark(row.verdict)} {row.verdict}", style=row.verdict)
        table.add_row(shortened(name, room), row.measure.label, verdict, text, *([both] if wide else []))
    console.print(table)
    return len(shown), len(changed) - len(shown)


def _fit(texts: Sequence[str], most: int) -> int:
    return min(max(len(text) for text in texts), most)


def print_singles(console: Console, singles: Sequence[Single]) -> None:
    """Print how the readings of each workload under each arm are distributed."""
    for single in singles:
        console.print(f"{single.workload}, arm {single.arm}: {single.measure.label}", style="title")
        if single.summary is None:
            console.print(f"  all {single.failed} trials failed")
            continue
        for line in _summary_lines(single):
            console.print("  " + line)


def _summary_lines(single: Single) -> list[str]:
    s, unit = single.summary, single.measure.unit
    assert s is not None

    def told(value: float) -> str:
        return quantity_text(value, unit)

    if math.isfinite(s.median_low):
        sure = f"{told(s.median_low)} to {told(s.median_high)} at {math.floor(s.confidence * 1000) / 10:g} %"
    else:
        sure = "too few trials for an interval"
    spread = share_text(s.spread / s.median) if s.median else "none"
    low, bars, high = told(s.least), histogram(single), told(s.most)
    return [
        f"median {told(s.median)} ({sure}), {s.size} trials" + (f", {single.failed} failed" if single.failed else ""),
        f"middle half {told(s.first_quartile)} to {told(s.third_quartile)}, spread {spread} of the median",
        f"{low} {bars} {high}",
    ]


def histogram(single: Single, bins: int = 32) -> str:
    """Return the readings counted in equal steps from least to most, as bars."""
    values = single.values.tolist()
    low, high = min(values), max(values)
    counts = [0] * bins
    for value in values:
        counts[min(bins - 1, int((value - low) / (high - low) * bins)) if high > low else bins // 2] += 1
    most = max(counts)
    if not can_draw():
        return "".join("." if not count else str(min(9, count)) for count in counts)
    return "".join(" " if not count else _BARS[max(0, math.ceil(count / most * 8) - 1)] for count in counts)
