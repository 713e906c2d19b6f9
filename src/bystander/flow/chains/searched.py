"""What the searches that an archive holds found, worked out from their blocks. Nothing is run."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from bystander.archive import Archive
from bystander.design import FilePatch, KeptState, RecordHead, edit_size, hunk_texts, read_patch
from bystander.errors import BystanderError, UsageError
from bystander.exchange import bisect_json
from bystander.field import Edits, KeptStates
from bystander.flow.chains.bisected import bisection
from bystander.flow.sessions.heads import home_of
from bystander.verdicts import Searched

__all__ = ["bisect_document", "newest_search", "searched"]


def newest_search(heads: Sequence[RecordHead], archive: Path, open_only: bool = True) -> RecordHead:
    """Return the newest search, of those that are not finished by default; raise UsageError where there is none."""
    for head in reversed(heads):
        if head.is_search and not (open_only and head.complete):
            return head
    what = "unfinished search" if open_only else "search"
    raise UsageError(f"{archive} has no {what} for a commit; bystander bisect v1..v9 begins one")


def searched(archive: Path, name: str | None = None) -> Searched:
    """Return what a search found, the newest by default, worked out from its blocks. Nothing is run."""
    with Archive(archive) as kept:
        head = kept.head(name) if name else newest_search(kept.heads(), archive, open_only=False)
        found = bisection(kept, head)
    edits = _edits(found)
    sizes = {name: edit_size(files) for name, files in edits.items()}
    return replace(found, sizes=sizes, hunks={name: hunk_texts(files) for name, files in edits.items()})


def _edits(done: Searched) -> dict[str, tuple[FilePatch, ...]]:
    """Return the edits that were found, as far as the repository is still here."""
    edits: dict[str, tuple[FilePatch, ...]] = {}
    with suppress(BystanderError):
        home = home_of(done.head)
        kept = KeptStates(home).of(done.head.uuid) if done.head.observed_here else None
        for _, found in done.found:
            for step in found.steps:
                names = [done.commits[commit].short for commit in (step.parent, step.commits[-1])]
                states = [kept.arms.get(name) if kept else None for name in names]
                if isinstance(states[0], KeptState) and isinstance(states[1], KeptState):
                    edits[names[1]] = read_patch(Edits(home).patch(states[0], states[1]))
    return edits


def bisect_document(done: Searched) -> str:
    """Return what was found as the JSON document whose schema is in docs/bisect.schema.json."""
    return bisect_json(done)
