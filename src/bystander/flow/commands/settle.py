"""`bystander settle`: somebody accepts a row, with a reason, in a file beside the study."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from difflib import get_close_matches
from pathlib import Path

from bystander.design import ACCEPTED, Settled
from bystander.errors import UnitError, UsageError
from bystander.exchange import allowed_text, read_allowed, settled_text
from bystander.flow.commands.decide import decided
from bystander.flow.records.settled import add_settled
from bystander.verdicts import Decision, Row, Scale, acceptable, least_worse, row_sentence, worse_end

__all__ = ["FATES", "AskedSettle", "settle"]

FATES = (ACCEPTED,)


@dataclass(frozen=True)
class AskedSettle:
    """What is settled.

    Attributes
    ----------
    what : str
        A workload.
    because : str
    until : str or None
        The last day on which it holds: "2027-03-01".
    up_to : str or None
        How much worse it may be; the worse end of its interval by default.
    arm, measure, record : str or None
        Where a workload alone does not tell which row.
    """

    what: str
    fate: str
    because: str
    until: str | None = None
    up_to: str | None = None
    arm: str | None = None
    measure: str | None = None
    record: str | None = None


def settle(archive: Path, asked: AskedSettle, today: date) -> tuple[Path, Settled, str]:
    """Add an entry to the file beside the study of a record.

    Returns
    -------
    file : Path
    entry : Settled
    text : str
        How much worse it may be, as it is written.

    Raises
    ------
    UsageError
        When it is not clear which row is meant, or there is nothing to settle on it.
    """
    if asked.fate not in FATES:
        raise UsageError(f'FATE: "{asked.fate}" is no fate of a row; write {" or ".join(FATES)}')
    if not asked.because.strip():
        raise UsageError("--because: say why; it is read in every review from now on")
    decision, _ = decided(archive, asked.record)
    row = _row(decision, asked)
    up_to, relative = _allowed(row, asked.up_to)
    if least_worse(row) > up_to:
        raise UsageError(f"--up-to: {row.workload} is shown to be worse than that: {row_sentence(row)}")
    entry = Settled(
        decision.head.study.name, row.workload, row.arm, row.measure.name, asked.fate, asked.because.strip(), today,
        decision.head.name, row_sentence(row), up_to, relative, _until(asked.until, today),
    )  # fmt: skip
    file = add_settled(decision.head, archive, lambda before: settled_text(before, entry, row.measure.unit))
    return file, entry, allowed_text(up_to, relative, row.measure.unit)


def _row(decision: Decision, asked: AskedSettle) -> Row:
    """Return the row that is meant."""
    name = decision.head.name
    rows = [row for row in decision.rows if row.workload == asked.what]
    if not rows:
        known = list(dict.fromkeys(row.workload for row in decision.rows))
        near = get_close_matches(asked.what, known, 1, 0.5)
        hint = f'did you mean "{near[0]}"?' if near else f"it has {', '.join(known[:8]) or 'no comparison'}"
        raise UsageError(f'record {name} has no row of a workload "{asked.what}"; {hint}')
    measure = asked.measure or decision.measure.name
    mine = [row for row in rows if row.measure.name == measure]
    if not mine:
        others = ", ".join(dict.fromkeys(row.measure.name for row in rows))
        raise UsageError(f'--measure: {asked.what} has no row of "{measure}" in record {name}; it has {others}')
    if asked.arm is not None:
        mine = [row for row in mine if row.arm == asked.arm] or _no_arm(mine, asked.arm, name)
    if len(mine) > 1:
        arms = ", ".join(row.arm for row in mine)
        raise UsageError(f"{asked.what} has a row under each of {arms}; --arm says which is meant")
    if not acceptable(mine[0]):
        raise UsageError(f"{asked.what} under {mine[0].arm}: {row_sentence(mine[0])}; there is nothing to accept")
    return mine[0]


def _no_arm(rows: Sequence[Row], arm: str, record: str) -> list[Row]:
    raise UsageError(f'--arm: record {record} has no candidate "{arm}"; it has {", ".join(row.arm for row in rows)}')


def _until(text: str | None, today: date) -> date | None:
    if text is None:
        return None
    try:
        day = date.fromisoformat(text)
    except ValueError:
        example = today + timedelta(days=90)
        raise UsageError(f'--until: "{text}" is no day; write for example {example}') from None
    if day < today:
        raise UsageError(f"--until: {day} is over; this is {today}")
    return day


def _allowed(row: Row, text: str | None) -> tuple[float, bool]:
    """Return how much worse a row may be, and whether that is a share."""
    ratio = row.scale == Scale.RATIO
    if text is None:
        worse = worse_end(row)
        if not math.isfinite(worse):
            raise UsageError(f"{row.workload}: how much worse it is has no bound; --up-to says what is accepted")
        return max(0.0, worse), ratio
    try:
        up_to, relative = read_allowed(text)
    except UnitError as error:
        raise UsageError(f"--up-to: {error}") from None
    if relative != ratio:
        example = "5 %" if ratio else allowed_text(abs(row.estimate), relative=False, unit=row.measure.unit)
        raise UsageError(f'--up-to: "{text}" is no size of this change; write for example "{example}"')
    return up_to, relative
