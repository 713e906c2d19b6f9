"""What became of leads: the links of chains that edited their places since, with what they gained."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from bystander.archive import Archive
from bystander.design import KEPT, Record, RecordHead
from bystander.flow.chains.diary import fated
from bystander.units import listed
from bystander.verdicts import Rung, change_text, gain_of, ladder

__all__ = ["Became", "became_of"]

_NAMED, _MOST_LINES = 4, 12


@dataclass(frozen=True)
class Became:
    """What is said of a list of places, a sentence each.

    Attributes
    ----------
    before : str
        That it was made before an edit was kept; "" where it was not.
    lines : tuple of str
        Which of its places were edited since, by which link, and what that gained.
    """

    before: str = ""
    lines: tuple[str, ...] = ()


def became_of(archive: Path, head: RecordHead, made_wall_s: float, labels: Iterable[str], workload: str) -> Became:
    """Return what became of places, by the chains of the same study that were observed since.

    Parameters
    ----------
    made_wall_s : float
        When the list was made, in seconds since 1970.
    labels : iterable of str
        Names of places, as leads show them.
    """
    with Archive(archive) as kept:
        heads = [one for one in kept.heads() if _since(one, head, made_wall_s)]
        records = [kept.load(one.uuid) for one in heads]
    wanted, lines, kept_since = set(labels), [], list[str]()
    for record in records:
        made = fated(ladder(record), [record.head], archive)
        for rung in made.rungs:
            if rung.fate == KEPT:
                kept_since.append(rung.link.name)
            if touched := [name for name in rung.link.functions if name in wanted]:
                lines.append(_line(rung, touched, gain_of(rung, made), record, workload))
    before = ""
    if kept_since:
        names = listed(kept_since[-_NAMED:], _NAMED)
        before = f"This list was made before {names} was kept: look again before the next edit."
    return Became(before, tuple(dict.fromkeys(lines))[:_MOST_LINES])


def _since(one: RecordHead, head: RecordHead, made_wall_s: float) -> bool:
    chain = one.study.chain
    later = one.started_wall_s > made_wall_s and one.study_folder == head.study_folder
    return later and chain is not None and chain.kind.climbs


def _line(rung: Rung, places: Sequence[str], gain: tuple[str, str], record: Record, workload: str) -> str:
    """Say which link edited places, and what it gained: in the list's own workload where the chain has it."""
    mine = next((row for row in rung.rows if row.workload == workload), None)
    verdict, change = (mine.verdict, change_text(mine)) if mine else gain
    fate = f", {rung.fate}" if rung.fate else ""
    names = listed(list(places), _NAMED)
    return f"{names} was edited by {rung.link.name} of {record.head.name}{fate}: {verdict}, {change}."
