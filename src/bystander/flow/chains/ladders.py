"""Ladders of the chains that an archive holds: read and put together. Nothing is run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path

from bystander.archive import Archive
from bystander.design import ChainKind, Record, RecordHead, SettledLink, redacted
from bystander.errors import UsageError
from bystander.exchange import ladder_json
from bystander.flow.chains.diary import AskedLink, fated, settle_link
from bystander.verdicts import Ladder, ladder

__all__ = ["CLIMBING", "chain_ladder", "chain_records", "ladder_document", "laddered", "settle"]

CLIMBING = (ChainKind.LINKS, ChainKind.ADDED)


def chain_records(archive: Path, name: str | None = None, kinds: Sequence[ChainKind] = ()) -> list[Record]:
    """Return the record of a chain, the newest by default, and behind it those that added a link to it.

    Parameters
    ----------
    kinds : sequence of ChainKind
        Take the newest of these only.

    Raises
    ------
    UsageError
        When no record is a chain.
    """
    with Archive(archive) as kept:
        heads = kept.heads()
        head = _begun_by(kept.head(name), heads) if name else _newest(heads, kinds)
        return [kept.load(one.uuid) for one in (head, *(one for one in heads if _goes_on(one, head)))]


def chain_ladder(archive: Path, name: str | None = None, only: Sequence[str] = (), redact: bool = False) -> Ladder:
    """Return the ladder of a record, the newest chain by default, with what became of each edit. Nothing is run."""
    return laddered(chain_records(archive, name, CLIMBING), archive, only, redact)


def laddered(records: Sequence[Record], archive: Path, only: Sequence[str] = (), redact: bool = False) -> Ladder:
    """Return the ladder of a record with the links that later ones added to it."""
    first, *more = [ladder(redacted(one) if redact else one, only) for one in records]
    rungs = list(first.rungs)
    for one in more:  # the total is that of the newest, which has the first state in its blocks too
        rungs += [replace(rung, number=len(rungs) + i) for i, rung in enumerate(one.rungs, 1)]
        first = replace(first, total=one.total, total_load=one.total_load, total_mean=one.total_mean)
    return fated(replace(first, rungs=tuple(rungs)), [one.head for one in records], archive, redact)


def settle(archive: Path, asked: AskedLink, record: str | None, today: date) -> tuple[Path, SettledLink]:
    """Settle what became of an edit of a chain, the newest by default."""
    records = chain_records(archive, record, CLIMBING)
    return settle_link(laddered(records, archive), [one.head for one in records], archive, asked, today)


def _newest(heads: Sequence[RecordHead], kinds: Sequence[ChainKind] = ()) -> RecordHead:
    """Return the newest chain, of some kinds where they are given."""
    for head in reversed(heads):
        if head.study.chain is not None and (not kinds or head.study.chain.kind in kinds):
            return _begun_by(head, heads)
    if ChainKind.PIECES in kinds:
        raise UsageError("no edit was taken apart yet; bystander chain --hunks LINK does it")
    raise UsageError("there is no chain yet; bystander chain v1..v9 observes one, with revisions of yours")


def _begun_by(head: RecordHead, heads: Sequence[RecordHead]) -> RecordHead:
    """Return the record that a chain began with: of a link that was added, the one that it goes on with."""
    chain = head.study.chain
    if chain is None or chain.kind is not ChainKind.ADDED:
        return head
    return next((one for one in heads if one.uuid == chain.of and one.study.chain), head)


def _goes_on(head: RecordHead, first: RecordHead) -> bool:
    """Whether a record added a link to a chain."""
    chain = head.study.chain
    return chain is not None and chain.kind is ChainKind.ADDED and chain.of == first.uuid and head.complete


def ladder_document(made: Ladder) -> str:
    """Return a ladder as the JSON document whose schema is in docs/ladder.schema.json."""
    return ladder_json(made)
