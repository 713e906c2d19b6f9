"""What an archive has shown before: an edit that is shown once, among many that were tried, may be luck.

Within one record the risk holds whatever is shown; over a stream of records, most of which changed nothing, a larger
share of what is shown is false. A second record of the same pair tells them apart: luck seldom comes twice alike.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from bystander.units import counted

__all__ = ["FEWEST_BATCHES", "Key", "RecordTests", "Repeated", "repeated", "repeated_sentence"]

Key = tuple[str, str, str, str]  # of both states, the workload and the measure

FEWEST_BATCHES = 10


@dataclass(frozen=True)
class RecordTests:
    """What one record tested.

    Attributes
    ----------
    record : str
    risk : float
    shown : mapping
        By what was tested: 1 or -1 where a change was shown, more or less under the second state; 0 where none was.
    """

    record: str
    risk: float
    shown: Mapping[Key, int]


@dataclass(frozen=True)
class Repeated:
    """How the rows of a record stand among all that its archive tested.

    Attributes
    ----------
    edits, shown : int
        Pairs of states that were tried, and those of which something was shown.
    by_luck : float
        How many of these would be shown if none had changed anything: the risk, once for each record that tried a new
        pair, as links of one record are one batch.
    once, twice : tuple of str
        Workloads shown to have changed in this record alone, and in another record of the same pair too, the same way.
    """

    edits: int
    shown: int
    by_luck: float
    once: tuple[str, ...]
    twice: tuple[str, ...]


def repeated(mine: RecordTests, names: Mapping[str, str], others: Sequence[RecordTests]) -> Repeated | None:
    """Return how a record stands among others; None where it shows nothing, or few were tried.

    Parameters
    ----------
    names : mapping
        Names of workloads by their keys.
    others : sequence of RecordTests
        Of all other records of the archive that were observed here, the oldest first.
    """
    changed = {key: way for key, way in mine.shown.items() if way}
    if not changed:
        return None
    tried: dict[tuple[str, str], bool] = {}
    seen: set[Key] = set()
    by_luck, batches = 0.0, 0
    for one in (*others, mine):
        if not one.shown.keys() <= seen:
            by_luck, batches = by_luck + one.risk, batches + 1
        seen |= one.shown.keys()
        for key, way in one.shown.items():
            tried[key[:2]] = tried.get(key[:2], False) or bool(way)
    if batches < FEWEST_BATCHES:
        return None
    twice = {key for key, way in changed.items() if any(one.shown.get(key) == way for one in others)}
    return Repeated(
        len(tried), sum(tried.values()), by_luck,
        tuple(dict.fromkeys(names[key[2]] for key in changed if key not in twice)),
        tuple(dict.fromkeys(names[key[2]] for key in changed if key in twice)),
    )  # fmt: skip


def repeated_sentence(found: Repeated | None, confirm: str) -> str:
    """Return the remark on what was shown once, with the command that runs the same pair again, or shown twice."""
    if found is None:
        return ""
    if not found.once:
        return f"Shown twice, by another record of the same states too: {', '.join(found.twice)}."
    luck = f"{found.by_luck:.0f}" if found.by_luck >= 1 else f"{found.by_luck:.1f}"
    verb = "was" if found.shown == 1 else "were"
    text = f"{found.shown} of {counted(found.edits, 'edit')} {verb} shown here; about {luck} such would be luck."
    return f"{text} Confirm:\n  {confirm}" if confirm else text
