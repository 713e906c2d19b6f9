"""A record beside an earlier one, as people say it."""

from __future__ import annotations

import math

from bystander.stats import HoursApart
from bystander.units import counted, moment_text
from bystander.verdicts.since import Change, Since, SinceRow
from bystander.verdicts.types import Decision
from bystander.verdicts.worded.sentences import decimals

__all__ = ["apart_text", "since_lines"]

_WORDS = {
    Change.NEW: "new", Change.NOT_SEEN_THEN: "new, or not seen then", Change.PERSISTING: "persisting",
    Change.NOT_SEEN_NOW: "not seen any more", Change.MENDED: "mended", Change.ONLY_NOW: "only in this record",
}  # fmt: skip


def apart_text(apart: HoursApart) -> str:
    """Return a change between two hours: "+3.1 % (+1.2 to +5.0)"."""
    percents = [100 * math.expm1(min(value, 50.0)) for value in (apart.estimate, apart.low, apart.high)]
    places = decimals(percents[1:], 2)
    numbers = [f"{value:+.{places}f}" if math.isfinite(value) else "?" for value in percents]
    return f"{numbers[0]} % ({numbers[1]} to {numbers[2]})"


def since_lines(decision: Decision, told: Since) -> list[str]:
    """Return what changed since an earlier record, a line each: counts, then each row that stands otherwise."""
    head = told.earlier
    counts = [f"{told.count(change)} {word}" for change, word in _WORDS.items() if told.count(change)]
    alike = told.count(Change.ALIKE)
    counts += [f"{counted(alike, 'row')} as before"] if alike else []
    begun = moment_text(head.started_wall_s) + ("" if head.complete else ", unfinished")
    lines = [f"Since {head.name} ({begun}), by verdicts: {', '.join(counts) or 'no row'}."]
    for row in told.rows:
        if row.change is not Change.ALIKE:
            lines.append(_line(decision, row))
    known = [row for row in told.rows if row.apart is not None]
    for row in known:
        if row.apart and (row.change is not Change.ALIKE or row.apart.shown):
            lines.append(_number(decision, row, row.apart, head.name))
    if refused := sorted({row.why for row in told.rows if row.why}):
        lines.append(
            f"Numbers of the two hours are not compared where {'; where '.join(refused)}: observe --with-earlier "
            f"{head.name} runs its candidate beside today's."
        )
    return lines


def _line(decision: Decision, row: SinceRow) -> str:
    then = f" ({row.then.verdict} then, {row.now.verdict} now)" if row.then is not None else ""
    return f"{decision.name_of(row.now)}: {_WORDS[row.change]}{then}."


def _number(decision: Decision, row: SinceRow, apart: HoursApart, earlier: str) -> str:
    by = "by the same reference in both" if not apart.pairs else f"by {apart.pairs} pairs of records of one code"
    shown = "" if apart.shown else ": no change is shown"
    return f"{decision.name_of(row.now)}: {row.now.arm} against that of {earlier} {apart_text(apart)}, {by}{shown}."
