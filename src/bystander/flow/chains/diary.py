"""The diary of a chain: which edits were kept and which dropped, in the file beside the study."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path

from bystander.design import LINK_FATES, RecordHead, SettledLink, digest
from bystander.errors import UsageError
from bystander.exchange import settled_link_text
from bystander.flow.records.settled import add_settled, links_beside
from bystander.units import either, listed
from bystander.verdicts import Ladder, Rung, gain_of

__all__ = ["AskedLink", "fated", "rung_named", "settle_link"]

_NAMED = 8


@dataclass(frozen=True)
class AskedLink:
    """What is settled of an edit.

    Attributes
    ----------
    link : str
        Its state's name, or the number of its rung.
    """

    link: str
    fate: str
    because: str


def _key(rung: Rung, heads: Sequence[RecordHead]) -> str:
    """Return the key of an edit: a digest of those of the arms before and after it."""
    keys = {state.name: state.key for state in next(head for head in heads if head.name == rung.record).arms}
    return digest([keys[rung.link.since], keys[rung.link.arm]])


def fated(made: Ladder, heads: Sequence[RecordHead], archive: Path, redact: bool = False) -> Ladder:
    """Return a ladder that knows what became of its edits."""
    entries = {one.key: one for one in links_beside(heads[0], archive)}
    rungs = []
    for rung in made.rungs:
        entry = entries.get(_key(rung, heads))
        because = entry.because if entry and not redact else ""
        rungs.append(replace(rung, fate=entry.fate, because=because) if entry else rung)
    return replace(made, rungs=tuple(rungs))


def rung_named(made: Ladder, text: str) -> Rung:
    """Return the rung of a state's name or its beginning, or of a number; raise UsageError where none is meant."""
    exact = [rung for rung in made.rungs if rung.link.name == text]
    begins = [rung for rung in made.rungs if len(text) >= 4 and rung.link.name.startswith(text)]
    numbered = [rung for rung in made.rungs if str(rung.number) == text]
    longer = [rung for rung in made.rungs if len(rung.link.name) >= 4 and text.startswith(rung.link.name)]
    for found in (exact, begins, numbered, longer):
        if len(found) == 1:
            return found[0]
    names = listed([rung.link.name for rung in made.rungs], _NAMED)
    raise UsageError(f'record {made.head.name} has no link "{text}"; it has {names}, or a number from 1 on')


def settle_link(
    made: Ladder, heads: Sequence[RecordHead], archive: Path, asked: AskedLink, today: date
) -> tuple[Path, SettledLink]:
    """Add an entry on an edit to the file beside the study.

    Raises
    ------
    UsageError
        When there is no such link, or no reason.
    """
    if asked.fate not in LINK_FATES:
        raise UsageError(f'FATE: "{asked.fate}" is no fate of a link; write {either(LINK_FATES)}')
    if not asked.because.strip():
        raise UsageError("--because: say why; whoever reads the ladder reads it")
    rung = rung_named(made, asked.link)
    verdict, change = gain_of(rung, made)
    evidence = f"{verdict}, {change}, {made.blocks} blocks"
    key = _key(rung, heads)
    entry = SettledLink(
        made.head.study.name, rung.link.arm, key, asked.fate, asked.because.strip(), today, rung.record, evidence
    )  # fmt: skip
    return add_settled(heads[0], archive, lambda before: settled_link_text(before, entry)), entry
