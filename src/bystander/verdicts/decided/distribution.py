"""How the whole distribution of a row moved: its fast trials, its typical ones, and its slow ones."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.stats import SHARES, needed_trials, quantile_ratios, quantiles, two_speeds
from bystander.units import quantity_text, share_text
from bystander.verdicts.described.single import Single
from bystander.verdicts.types import Distribution, Note, Row, Shift
from bystander.verdicts.words import Scale

__all__ = ["CONFIDENCE", "distributed"]

Floats = NDArray[np.float64]
CONFIDENCE = 0.95
_SLOW_FROM, _FEWEST_FOR_SLOW = 0.9, 20
_NAMED = {0.75: "quarter", 0.9: "tenth", 0.95: "twentieth", 0.99: "hundredth"}


def distributed(
    rows: Sequence[Row], singles: Sequence[Single], error: float
) -> tuple[list[Row], tuple[Distribution, ...]]:
    """Return rows with what their slow trials do that their typical ones do not, and how all parts of them moved.

    A failed trial would be a slow one of unknown length, so that rows with failures have no distribution; nor have
    rows with readings that are not above zero.

    Parameters
    ----------
    singles : sequence of Single
        Of the rows' measure.
    error : float
        The risk of a false word about slow trials, held over all rows and shares together (Bonferroni).
    """
    groups = _groups(rows, singles)
    parts = {at: part for group in groups for at, part in _distributions(rows, group)}
    tails = _tail_notes(rows, groups, error / max(1, len(rows) * len(_NAMED)))
    noted = []
    for at, row in enumerate(rows):
        notes = [_two_note(row, *two) for two in parts[at].two] if at in parts else []
        notes += [tails[at]] if at in tails else []
        noted.append(row._replace(notes=(*row.notes, *notes)) if notes else row)
    return noted, tuple(parts[at] for at in sorted(parts))


@dataclass(frozen=True)
class _Group:
    """Rows of equal numbers of trials: their places, and both arms' readings, sorted along the rows."""

    places: list[int]
    reference: Floats
    candidate: Floats


def _groups(rows: Sequence[Row], singles: Sequence[Single]) -> list[_Group]:
    by_place = {(single.workload, single.arm): single for single in singles}
    sizes: dict[tuple[int, int], list[tuple[int, Floats, Floats]]] = {}
    for at, row in enumerate(rows):
        sides = [by_place.get((row.workload, arm)) for arm in (row.against, row.arm)]
        values = [side.values for side in sides if side and not side.failed and not side.at_floor and side.values.size]
        if row.looked_at and row.scale == Scale.RATIO and len(values) == 2 and all(side.min() > 0 for side in values):
            sizes.setdefault((values[0].size, values[1].size), []).append((at, values[0], values[1]))
    return [
        _Group(
            [at for at, _, _ in members],
            np.sort(np.stack([one for _, one, _ in members]), axis=1),
            np.sort(np.stack([other for _, _, other in members]), axis=1),
        )
        for members in sizes.values()
    ]


def _shifts(group: _Group, share: float, error: float) -> list[Shift]:
    needed = needed_trials(share, error)
    enough = min(group.reference.shape[1], group.candidate.shape[1]) >= needed
    columns = (column.tolist() for column in quantile_ratios(group.reference, group.candidate, share, error))
    lacking = 0 if enough else needed
    return [Shift(share, ratio, low, high, lacking) for ratio, low, high in zip(*columns, strict=True)]


def _distributions(rows: Sequence[Row], group: _Group) -> Iterator[tuple[int, Distribution]]:
    """Yield the distribution of each row of a group, by its place."""
    by_share = [_shifts(group, share, 1 - CONFIDENCE) for share in SHARES]
    spreads, slow = [_spreads(side) for side in (group.reference, group.candidate)], _slow(group)
    speeds = [two_speeds(side) for side in (group.reference, group.candidate)]
    for k, at in enumerate(group.places):
        row = rows[at]
        arms = (row.against, speeds[0][k]), (row.arm, speeds[1][k])
        two = tuple((arm, *both) for arm, both in arms if both is not None)
        parts = tuple(shifts[k] for shifts in by_share)
        spread = spreads[0][k], spreads[1][k]
        yield at, Distribution(row.workload, row.arm, row.against, row.comparison, parts, two, spread, slow[k])


def _spreads(ordered: Floats) -> list[float]:
    """Return the spread of each sorted row over its median."""
    middle = quantiles(ordered, 0.5)
    away = np.sort(np.abs(ordered - middle[:, None]), axis=1)
    spread: list[float] = (1.4826 * quantiles(away, 0.5) / middle).tolist()
    return spread


def _slow(group: _Group) -> list[tuple[tuple[int, int], tuple[int, int]] | None]:
    """Count trials of both arms beyond the reference's 90th percentile, row by row."""
    sizes = group.reference.shape[1], group.candidate.shape[1]
    if min(sizes) < _FEWEST_FOR_SLOW:
        return [None] * len(group.places)
    limit = quantiles(group.reference, _SLOW_FROM)[:, None]
    counts = (np.count_nonzero(side > limit, axis=1).tolist() for side in (group.reference, group.candidate))
    return [((one, sizes[0]), (other, sizes[1])) for one, other in zip(*counts, strict=True)]


def _tail_notes(rows: Sequence[Row], groups: Sequence[_Group], error: float) -> dict[int, Note]:
    """Return notes on slow trials by the places of their rows; `error` is the risk of each."""
    tails: dict[int, Note] = {}
    for group in groups:
        for share in sorted(_NAMED):  # what is said of fewer trials replaces what was said of more
            columns = (column.tolist() for column in quantile_ratios(group.reference, group.candidate, share, error))
            for at, ratio, low, high in zip(group.places, *columns, strict=True):
                if note := _tail_note(rows[at], share, ratio, low, high, error):
                    tails[at] = note
    return tails


def _two_note(row: Row, arm: str, fast: float, slow: float, share: float) -> Note:
    speeds = f"{quantity_text(fast, row.measure.unit, 2)} and {quantity_text(slow, row.measure.unit, 2)}"
    return Note("two-speeds", f"Arm {arm} runs at two speeds, about {speeds} ({share_text(share, 2)} of its trials).")


def _tail_note(row: Row, share: float, ratio: float, low: float, high: float, error: float) -> Note | None:
    """Tell of slow trials that are shown to have moved otherwise than the typical one."""
    word = row.measure.words[0] if low > 1 else row.measure.words[1] if high < 1 else ""
    if not word or word == row.verdict:
        return None
    return Note(
        "tail-changed",
        f"The slowest {_NAMED[share]} of the trials is {word}: {ratio:.2f} times ({low:.2f} to {high:.2f} at "
        f"{100 * (1 - error):.4g} %); the typical trial is {row.verdict}.",
    )
