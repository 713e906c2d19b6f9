"""Rows that somebody accepted: whether that still holds on the day of deciding."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date

from bystander.design import Settled
from bystander.units import quantity_text, share_text
from bystander.verdicts.settled import ACCEPTED_NOTE, SettledRow, Standing
from bystander.verdicts.types import Decision, Note, Row
from bystander.verdicts.words import Scale, Verdict

__all__ = ["acceptable", "least_worse", "with_settled", "worse_end"]

_FAR = 1e9


def with_settled(decision: Decision, entries: Sequence[Settled], today: date) -> Decision:
    """Return a decision that knows what was accepted: noted on its rows, and on top where it holds no longer."""
    study = decision.head.study.name
    latest = {entry.row: entry for entry in entries if entry.study == study}
    found, rows, loud = [], [], []
    for row in decision.rows:
        entry = latest.get((row.workload, row.arm, row.measure.name))
        if entry is None:
            rows.append(row)
            continue
        settled = SettledRow(entry, _standing(entry, row, today))
        found.append(settled)
        if settled.standing is Standing.ACCEPTED:
            row = row._replace(notes=(*row.notes, Note(ACCEPTED_NOTE, _accepted(settled, row))))
        elif settled.standing is not Standing.IDLE:
            loud.append(Note("no-longer-accepted", _over(settled, row, today)))
        rows.append(row)
    return replace(
        decision,
        rows=tuple(rows),
        notes=(*loud, *decision.notes),
        settled=tuple(found),
        decided_on=today if found else None,
    )


def acceptable(row: Row) -> bool:
    """Whether there is a change for the worse, or one that is not ruled out, that can be accepted."""
    return Verdict(row.verdict).is_worse or row.verdict == Verdict.UNCLEAR


def worse_end(row: Row) -> float:
    """Return by how much the row may be worse by its interval: a share for ratios, an amount for differences."""
    return _worse(row, row.high if row.measure.better != "more" else row.low)


def least_worse(row: Row) -> float:
    """Return by how much the row is worse at least, by its interval; below zero where it may be better."""
    return _worse(row, row.low if row.measure.better != "more" else row.high)


def _worse(row: Row, end: float) -> float:
    if row.scale == Scale.RATIO:
        return 1 - end if row.measure.better == "more" else end - 1
    return -end if row.measure.better == "more" else end


def _standing(entry: Settled, row: Row, today: date) -> Standing:
    if not acceptable(row):
        return Standing.IDLE
    if entry.until and today > entry.until:
        return Standing.OVER
    if entry.relative != (row.scale == Scale.RATIO):
        return Standing.BEYOND  # what was accepted says nothing of a change that is told in another way
    return Standing.BEYOND if least_worse(row) > entry.up_to else Standing.ACCEPTED


def _size(entry: Settled, row: Row) -> str:
    if entry.relative:
        return share_text(entry.up_to, 3)
    return quantity_text(entry.up_to, row.measure.unit)


def _accepted(settled: SettledRow, row: Row) -> str:
    entry = settled.entry
    until = f" until {entry.until}" if entry.until else ""
    far = f" up to {_size(entry, row)}" if entry.up_to < _FAR else ""
    return f"Accepted{until},{far} worse: {_reason(entry)} ({_where(entry)})."


def _over(settled: SettledRow, row: Row, today: date) -> str:
    entry = settled.entry
    name = f"{row.workload} under {row.arm}, {row.measure.label}"
    if settled.standing is Standing.OVER:
        why = f"it was accepted until {entry.until}, and this is {today}"
    else:
        why = f"it was accepted up to {_size(entry, row)} worse, and is shown to be worse than that"
    return f"NO LONGER ACCEPTED: {name}: {why}. The reason was: {_reason(entry)} ({_where(entry)})."


def _reason(entry: Settled) -> str:
    return entry.because.strip().rstrip(".") or "not told here"


def _where(entry: Settled) -> str:
    return f"settled {entry.day} on record {entry.record}" if entry.record else f"settled {entry.day}"
