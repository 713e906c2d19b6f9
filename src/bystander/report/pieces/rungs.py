"""The rungs of a ladder: each edit's own gain on an axis of steps, and beside it the stairs of how far it has come."""

from __future__ import annotations

import math
from dataclasses import dataclass

from bystander.report.pieces.forest import Bar, Forest, axis_of, bar, place_on
from bystander.report.theme import SHAPES, TONES
from bystander.units import quantity_text
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
    saved_text,
    so_far_text,
)

__all__ = ["DrawnRung", "DrawnRungs", "Part", "Stairs", "Tread", "drawn_rungs"]

_TICKS = 6
_EDGE = 4.0  # percent at both ends of the stairs
_ROOM = 1.0  # on the scale of logarithms, for a label in the middle


@dataclass(frozen=True)
class Tread:
    """Where a state stands on the stairs, in percent: from where the one before stood, with its interval."""

    before: float
    at: float
    left: float
    right: float
    tone: str


@dataclass(frozen=True)
class Stairs:
    """The axis of the stairs, logarithmic in time: places and labels, in percent."""

    ticks: tuple[tuple[float, str], ...]
    treads: tuple[Tread | None, ...]


@dataclass(frozen=True)
class Part:
    """A workload's own gain in a rung: its name, verdict and change, in seconds, and its bar."""

    workload: str
    verdict: str
    change: str
    seconds: str
    so_far: str
    bar: Bar | None
    answer: str


@dataclass(frozen=True)
class DrawnRung:
    """A rung as it is drawn.

    Attributes
    ----------
    identity : str
        What a reader should know its state by.
    flags : tuple of str
        What it is besides: another answer, lumped, joined, kept or dropped.
    parts : tuple of Part
        Its workloads, where there are several.
    """

    number: int  # from 1; 0 where its state has a number already
    state: str
    identity: str
    subject: str
    size: str
    verdict: str
    tone: str
    change: str
    seconds: str
    so_far: str
    median: str
    bar: Bar | None
    tread: Tread | None
    flags: tuple[str, ...]
    said: tuple[str, ...]
    parts: tuple[Part, ...]


@dataclass(frozen=True)
class DrawnRungs:
    """All of them, the axis that they share, and the stairs where there is one workload.

    Attributes
    ----------
    behind : bool
        Whether it is told how far each state has come.
    """

    axis: Forest
    stairs: Stairs | None
    rungs: tuple[DrawnRung, ...]
    first: str
    first_median: str
    behind: bool


def drawn_rungs(ladder: Ladder) -> DrawnRungs:
    """Return a ladder as it is drawn."""
    axis = ladder_axis(ladder)
    more, less = ladder.measure.words
    stairs = _stairs(ladder)
    treads = stairs.treads if stairs else (None,) * len(ladder.rungs)
    rungs = tuple(_rung(ladder, rung, axis, tread) for rung, tread in zip(ladder.rungs, treads, strict=True))
    median = (
        quantity_text(ladder.first[0], ladder.measure.unit)
        if ladder.alone and ladder.first and ladder.kind.climbs
        else ""
    )
    drawn = axis_of(axis, ladder.margin, more, less, _TICKS)
    return DrawnRungs(drawn, stairs, rungs, ladder.first_name, median, ladder.alone and ladder.kind.climbs)


def _rung(ladder: Ladder, rung: Rung, axis: StepAxis, tread: Tread | None) -> DrawnRung:
    verdict, change = gain_of(rung, ladder)
    alone, link = ladder.alone, rung.link
    row = rung.rows[0]
    so_far = rung.so_far[0] if alone and rung.so_far else None
    return DrawnRung(
        rung.number if ladder.numbered else 0, link.name, rung.identity, link.subject, edit_text(link.size), verdict,
        TONES[verdict], change,
        saved_text(row) if alone else "", so_far_text(so_far) if so_far else "",
        quantity_text(so_far.median, row.measure.unit) if so_far and math.isfinite(so_far.median) else "",
        _known(axis, row) if alone else _whole_bar(axis, rung, verdict),
        tread, _flags(rung), _said(rung),
        () if alone else tuple(_part(axis, rung, i) for i in range(len(rung.rows))),
    )  # fmt: skip


def _flags(rung: Rung) -> tuple[str, ...]:
    link = rung.link
    flags = [rung.fate] if rung.fate else []
    flags += ["another answer"] if any(row.has("answer-differs") for row in rung.rows) else []
    flags += ["failed"] if any(row.verdict == Verdict.FAILED for row in rung.rows) else []
    flags += [f"{link.size.hunks} hunks"] if link.size and link.size.lumped else []
    flags += [f"with {', '.join(one.name for one in link.joined)}"] if link.joined else []
    return tuple(flags)


def _said(rung: Rung) -> tuple[str, ...]:
    said = [f"{rung.fate}: {rung.because}"] if rung.because else []
    said += [f"{one.name} could not be built: {one.why}" for one in rung.link.joined]
    if rung.link.functions:
        said.append(f"changes {', '.join(rung.link.functions)}")
    return tuple(said)


def _whole_bar(axis: StepAxis, rung: Rung, verdict: str) -> Bar | None:
    whole = rung.together
    if whole is None or not whole.known:
        return None
    places = [place_on(axis, value) for value in (whole.low, whole.high, whole.ratio)]
    return Bar(places[0], places[1], places[2], whole.low < 1 / axis.reach, whole.high > axis.reach, SHAPES[verdict],
               TONES[verdict], verdict != Verdict.UNCLEAR)  # fmt: skip


def _known(axis: StepAxis, row: Row) -> Bar | None:
    """Return a row's bar; None where nothing is known of it."""
    return None if math.isnan(row.estimate) and row.low <= 0 and math.isinf(row.high) else bar(axis, row)


def _part(axis: StepAxis, rung: Rung, i: int) -> Part:
    row: Row = rung.rows[i]
    so_far = so_far_text(rung.so_far[i]) if rung.so_far else ""
    answer = "another answer" if row.has("answer-differs") else ""
    return Part(row.workload, row.verdict, change_text(row), saved_text(row), so_far, _known(axis, row), answer)


def _stairs(ladder: Ladder) -> Stairs | None:
    """Return where each state stands in time, by the direct pair with the first; None of several workloads."""
    start = ladder.first[0] if ladder.alone and ladder.first else math.nan
    if not (start > 0 and math.isfinite(start)) or any(rung.so_far[:1] == () for rung in ladder.rungs):
        return None
    seen = [rung.so_far[0] for rung in ladder.rungs]
    ends = [start, *(start * one.estimate for one in seen if one.scale == Scale.RATIO and one.estimate > 0)]
    if len(ends) < 2:
        return None
    low, high = math.log(min(ends)), math.log(max(ends))
    room = max(high - low, 0.02)

    def at(value: float) -> float:
        if not 0 < value < math.inf:
            return _EDGE if value <= 0 else 100 - _EDGE
        return round(_EDGE + (100 - 2 * _EDGE) * max(0.0, min(1.0, (math.log(value) - low) / room)), 2)

    treads: list[Tread | None] = []
    before = at(start)
    for rung, one in zip(ladder.rungs, seen, strict=True):
        if one.scale != Scale.RATIO or not one.estimate > 0:
            treads.append(None)
            continue
        places = [at(start * value) for value in (one.estimate, one.low, one.high)]
        treads.append(Tread(before, places[0], places[1], places[2], TONES[rung.rows[0].verdict]))
        before = places[0]
    marks = (low, (low + high) / 2, high) if room > _ROOM else (low, high)
    labels = [math.exp(value) for value in marks]
    return Stairs(tuple((at(value), quantity_text(value, ladder.measure.unit, 2)) for value in labels), tuple(treads))
