"""How the whole distribution of a row moved: its fast trials, its typical ones, and its slow ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bystander.stats import SHARES, needed_trials, quantile_ratio, two_speeds
from bystander.units import quantity_text, share_text
from bystander.verdicts.single import Single
from bystander.verdicts.types import Distribution, Note, Row, Shift

__all__ = ["CONFIDENCE", "distributions", "with_tail_notes"]

Floats = NDArray[np.float64]
CONFIDENCE = 0.95
_NAMED = {0.75: "quarter", 0.9: "tenth", 0.95: "twentieth", 0.99: "hundredth"}


def distributions(rows: Sequence[Row], singles: Sequence[Single], reference: str) -> tuple[Distribution, ...]:
    """Return the distributions of rows whose trials all ended well, with readings above zero.

    A failed trial would be a slow one of unknown length, so that rows with failures have none.
    """
    by_place = {(single.workload, single.arm): single for single in singles}
    found = []
    for row in rows:
        sides = [by_place.get((row.workload, arm)) for arm in (reference, row.arm)]
        sorts = [np.sort(side.values) for side in sides if side and not side.failed and not side.at_floor]
        if row.scale != "ratio" or len(sorts) < 2 or any(not side.size or side[0] <= 0 for side in sorts):
            continue
        two = tuple(
            (arm, *speeds)
            for arm, side in zip((reference, row.arm), sorts, strict=True)
            if (speeds := two_speeds(side)) is not None
        )
        found.append(Distribution(row.workload, row.arm, _shifts(sorts[0], sorts[1], 1 - CONFIDENCE), two))
    return tuple(found)


def _shifts(reference: Floats, candidate: Floats, error: float) -> tuple[Shift, ...]:
    shifts = []
    for share in SHARES:
        needed = needed_trials(share, error)
        enough = min(reference.size, candidate.size) >= needed
        shifts.append(Shift(share, *quantile_ratio(reference, candidate, share, error), 0 if enough else needed))
    return tuple(shifts)


def with_tail_notes(
    rows: Sequence[Row], singles: Sequence[Single], found: Sequence[Distribution], reference: str, error: float
) -> list[Row]:
    """Return rows with what their slow trials do that their typical ones do not, and with two speeds.

    Parameters
    ----------
    error : float
        The risk of a false word about slow trials, held over all rows and shares together (Bonferroni).
    """
    by_place = {(one.workload, one.arm): one for one in found}
    values = {(single.workload, single.arm): np.sort(single.values) for single in singles}
    each = error / max(1, len(rows) * len(_NAMED))
    told = []
    for row in rows:
        one = by_place.get((row.workload, row.arm))
        notes = list(row.notes)
        if one:
            notes += [_two_note(row, *two) for two in one.two]
            tail = _tail_note(row, values[row.workload, reference], values[row.workload, row.arm], each)
            notes += [tail] if tail else []
        told.append(replace(row, notes=tuple(notes)))
    return told


def _two_note(row: Row, arm: str, fast: float, slow: float, share: float) -> Note:
    speeds = f"{quantity_text(fast, row.measure.unit, 2)} and {quantity_text(slow, row.measure.unit, 2)}"
    return Note("two-speeds", f"{arm} runs at two speeds, about {speeds} ({share_text(share, 2)} of its trials).")


def _tail_note(row: Row, reference: Floats, candidate: Floats, error: float) -> Note | None:
    """Tell of the outermost part of the slow trials that is shown to have moved otherwise than the typical one."""
    for share in sorted(_NAMED, reverse=True):
        ratio, low, high = quantile_ratio(reference, candidate, share, error)
        word = row.measure.words[0] if low > 1 else row.measure.words[1] if high < 1 else ""
        if word and word != row.verdict:
            percent = f"{100 * (1 - error):.4g}"
            return Note(
                "tail-changed",
                f"The slowest {_NAMED[share]} of the trials is {word}: {ratio:.2f} times ({low:.2f} to {high:.2f} at "
                f"{percent} %); the typical trial is {row.verdict}.",
            )
    return None
