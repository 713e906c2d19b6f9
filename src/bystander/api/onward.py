"""Chains and searches for a commit, read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from bystander.api.records import found_archive
from bystander.exchange import bisect_json, ladder_frame, ladder_json
from bystander.flow.chains.ladders import chain_ladder
from bystander.flow.chains.searched import searched
from bystander.verdicts import Ladder as _Ladder
from bystander.verdicts import Searched as _Searched
from bystander.verdicts import bisected_lines, ladder_lines

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Ladder", "Search", "read_ladder", "read_search"]


@dataclass(frozen=True)
class Ladder:
    """The edits of a chain, each with its own gain against the state before it.

    Attributes
    ----------
    record : str
        The record that the chain begins with.
    links, workloads : tuple of str
        Names, in their order.
    lines : tuple of str
        What came of it, in sentences.
    """

    record: str
    links: tuple[str, ...]
    workloads: tuple[str, ...]
    lines: tuple[str, ...]
    _ladder: _Ladder

    def frame(self) -> pd.DataFrame:
        """Return a row for each link and workload, then the totals; columns as `chain --to FILE.csv` writes them."""
        return ladder_frame(self._ladder)

    def json(self) -> str:
        """Return the document whose schema is docs/ladder.schema.json."""
        return ladder_json(self._ladder)


@dataclass(frozen=True)
class Search:
    """What a search for a commit found.

    Attributes
    ----------
    record : str
    outcomes : dict
        By workload: "found", "no-change", "good-fails", "cannot-tell", "no-answer" or "unfinished".
    commits : dict
        By workload: the ids of the commits that were found, in their order.
    lines : dict
        By workload: what is said of it, in sentences.
    """

    record: str
    outcomes: dict[str, str]
    commits: dict[str, tuple[str, ...]]
    lines: dict[str, tuple[str, ...]]
    _searched: _Searched

    def json(self) -> str:
        """Return the document whose schema is docs/bisect.schema.json."""
        return bisect_json(self._searched)


def read_ladder(name: str | None = None, archive: str | Path | None = None, only: Sequence[str] = ()) -> Ladder:
    """Return the ladder of a record that is a chain, the newest by default, with what was added and settled since.

    Parameters
    ----------
    name, archive : optional
        As for `read_record`.
    only : sequence of str
        Show workloads of these names or patterns only.

    Raises
    ------
    BystanderError
        When no record is a chain.
    """
    made = chain_ladder(found_archive(archive), name, only)
    links = tuple(rung.link.name for rung in made.rungs)
    return Ladder(made.head.name, links, made.workloads, tuple(ladder_lines(made)), made)


def read_search(name: str | None = None, archive: str | Path | None = None) -> Search:
    """Return what a search for a commit found, the newest by default; raises as `read_record`."""
    done = searched(found_archive(archive), name)
    names = {workload: done.head.study.workloads[workload].name for workload, _ in done.found}
    return Search(
        done.head.name,
        {names[w]: str(found.outcome) for w, found in done.found},
        {names[w]: tuple(done.commits[step.commits[-1]].id for step in found.steps) for w, found in done.found},
        {names[w]: tuple(bisected_lines(done, w, found)) for w, found in done.found},
        done,
    )
