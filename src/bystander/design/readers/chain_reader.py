"""Where the states of a chain come from: the table `[chain]` of a study."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Protocol

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.study_keys import CHAIN_KEYS
from bystander.design.readers.values import is_text, shown
from bystander.design.studies.chain import ChainStates

__all__ = ["STATE", "is_range", "range_ends", "read_states"]

STATE = "state"  # the arm like which every state is made, where the study names none
_SOURCES = ("revisions", "patches", "versions", "again")


class ChainPlace(Protocol):
    """What must be asked of the place where the study lies."""

    def has_folder(self, path: str) -> bool:
        """Whether there is such a folder, relative to the study."""

    def revision_problem(self, revision: str) -> str | None:
        """Why a revision cannot be checked out: one clause, or None."""


def is_range(text: str) -> bool:
    """Whether a text is a range of revisions: "v1..v9"."""
    return ".." in text


def range_ends(text: str) -> tuple[str, str]:
    """Return both ends of a range; an end that is left out is HEAD.

    Raises
    ------
    ValueError
        Where it is none, or asks for what two branches do not share ("a...b").
    """
    first, dots, last = text.partition("..")
    if not dots or last.startswith(".") or ".." in last or not (first or last):
        raise ValueError(f'"{text}" is no range of revisions; write for example "v1..v9"')
    return first.strip() or "HEAD", last.strip() or "HEAD"


def read_states(reader: KeyReader, value: Any, arms: Any, place: ChainPlace) -> ChainStates | None:
    """Return where the states come from; None where the study is no chain."""
    if value is None:
        return None
    table = reader.table(value, "chain")
    reader.keys(table, CHAIN_KEYS, "chain")
    given = [name for name in _SOURCES if table.get(name)]
    if len(given) != 1:
        wrong = f"{' and '.join(given)} are given" if given else "nothing says where its states come from"
        reader.wrong("chain", f"{wrong}; give one of {', '.join(_SOURCES)}")
    if isinstance(arms, dict) and len(arms) > 1:
        reader.wrong("arms", "a study with [chain] has one arm at most, like which each state is made")
    patches, versions, again, every = (
        reader.value(table, CHAIN_KEYS[key], "chain") for key in ("patches", "versions", "again", "all")
    )
    revisions = _revisions(reader, table, place)
    if patches and not place.has_folder(patches):
        reader.wrong("chain.patches", f'there is no folder "{patches}" beside the study')
    if versions and len(set(versions)) < max(2, len(versions)):
        reader.wrong("chain.versions", "a chain has two states or more, and each of them once")
    return ChainStates(revisions, patches, tuple(versions), again, every)


def _revisions(reader: KeyReader, table: Mapping[str, Any], place: ChainPlace) -> tuple[str, ...]:
    """Return the revisions, or the range, each checked where it lies."""
    value, path = table.get("revisions"), "chain.revisions"
    if value is None:
        return ()
    texts = [value] if isinstance(value, str) else value
    if not isinstance(texts, list) or not texts or not all(map(is_text, texts)):
        reader.wrong(path, f'{shown(value)} is no range and no list of revisions; write for example "v1..v9"')
        return ()
    try:
        ends = range_ends(texts[0]) if isinstance(value, str) else tuple(texts)
    except ValueError as error:
        reader.wrong(path, str(error))
        return ()
    for one in ends:
        if problem := place.revision_problem(one):
            reader.wrong(path, problem)
    if len(set(ends)) < max(2, len(ends)):
        reader.wrong(path, "a chain has two states or more, and each of them once")
    return tuple(texts)
