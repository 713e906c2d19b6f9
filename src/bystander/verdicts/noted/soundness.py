"""What could have fooled a row, in plain words; nothing is dropped and no verdict is changed for it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bystander.design import Record
from bystander.stats import FEWEST_BLOCKS, FIRST_BLOCKS, Soundness, soundness
from bystander.verdicts.compared.row_readings import RowReadings
from bystander.verdicts.compared.row_trials import RowTrials
from bystander.verdicts.types import Note
from bystander.verdicts.words import Scale

__all__ = ["soundness_notes"]

_MOST_NAMED = 4
_TOGETHER = 400_000  # blocks examined at once


def soundness_notes(record: Record, pairs: Sequence[RowTrials], readings: Sequence[RowReadings]) -> list[list[Note]]:
    """Return notes for each row; none for rows with failures, without blocks, or with fewer than can tell anything."""
    found: list[list[Note]] = [[] for _ in pairs]
    by_size: dict[int, list[int]] = {}
    for i, row in enumerate(readings):
        if row.paired and row.size >= FEWEST_BLOCKS and row.exact:
            by_size.setdefault(row.size, []).append(i)
    for members in _parts(by_size):
        blocks, reference, candidate, first = _in_order([readings[i] for i in members])
        seen, difference = soundness(reference, candidate, first), candidate - reference
        for k, i in enumerate(members):
            names = record.head.study.names(pairs[i].comparison)
            found[i] = _told(seen, k, names, blocks[k], difference[k], readings[i].scale == Scale.RATIO)
    return found


def _in_order(rows: Sequence[RowReadings]) -> list[NDArray[Any]]:
    """Return blocks, both arms' readings, and whether the candidate was first, shape (R, n), as the blocks follow."""
    columns = [
        np.stack([row.blocks for row in rows]),
        np.stack([row.reference[0] for row in rows]),
        np.stack([row.candidate[0] for row in rows]),
        np.stack([row.candidate_first for row in rows]),
    ]
    if (np.diff(columns[0], axis=1) > 0).all():
        return columns
    order = np.argsort(columns[0], axis=1, kind="stable")
    return [np.take_along_axis(column, order, axis=1) for column in columns]


def _parts(by_size: Mapping[int, list[int]]) -> Iterator[list[int]]:
    """Yield rows of one size, so many at once that their arrays stay small."""
    for size, members in by_size.items():
        together = max(1, _TOGETHER // size)
        for start in range(0, len(members), together):
            yield members[start : start + together]


def _told(
    seen: Soundness,
    row: int,
    names: tuple[str, str],
    blocks: NDArray[np.int64],
    difference: NDArray[np.float64],
    continuous: bool,
) -> list[Note]:
    """Return the notes of a row; counts and shares, which are not continuous, have few values by nature."""
    signs = [
        (seen.drifts[row], "drifts", "The difference between the arms changes in the course of the observation."),
        (
            seen.starts_apart[row],
            "first-blocks-differ",
            f"The first {FIRST_BLOCKS} blocks differ from the later ones: something was not warm yet.",
        ),
        (
            seen.order_matters[row],
            "order-matters",
            "Which arm ran first in a block matters. The order was drawn by chance, so it adds noise and no bias.",
        ),
        (seen.depends[row], "blocks-depend", "Blocks resemble the ones before them: the interval may be too narrow."),
        (
            seen.noisier[row] > 0,
            "one-arm-noisier",
            f"The readings of {names[1]} scatter more than those of {names[0]}.",
        ),
        (
            seen.noisier[row] < 0,
            "one-arm-noisier",
            f"The readings of {names[0]} scatter more than those of {names[1]}.",
        ),
        (
            seen.few_values[row] and continuous,
            "few-values",
            "Fewer than a third of the readings are distinct: the clock or the counter is too coarse for them.",
        ),
    ]
    notes = [Note(code, text) for holds, code, text in signs if holds]
    if (places := np.flatnonzero(seen.outlying[row])).size:
        notes.append(_outlying(places, blocks, difference))
    return notes


def _outlying(places: NDArray[np.int64], blocks: NDArray[np.int64], difference: NDArray[np.float64]) -> Note:
    """Name the blocks that lie far from the others, in their order; the farthest, where there are many."""
    middle = float(np.median(difference))
    ordered = sorted(places.tolist(), key=lambda place: -abs(difference[place] - middle))
    named = ", ".join(map(str, sorted(blocks[ordered[:_MOST_NAMED]].tolist())))
    rest = f" and {len(ordered) - _MOST_NAMED} more" if len(ordered) > _MOST_NAMED else ""
    which = "Block" if len(ordered) == 1 else "Blocks"
    verb = "lies" if len(ordered) == 1 else "lie"
    return Note("outlying-blocks", f"{which} {named}{rest} {verb} far from the others; nothing is left out for it.")
