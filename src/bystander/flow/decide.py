"""`bystander decide` and what report and gate need of it: a record, decided."""

from __future__ import annotations

from pathlib import Path

from bystander.archive import Archive
from bystander.design import Record
from bystander.exchange import verdicts_json
from bystander.verdicts import Decision, Options, decide

__all__ = ["decided", "decision_json", "loaded"]


def loaded(archive: Path, name: str | None) -> Record:
    """Return a record by name, the newest by default."""
    with Archive(archive) as kept:
        return kept.load(name)


def decided(archive: Path, name: str | None, options: Options | None = None) -> Decision:
    """Decide a record; nothing is run and nothing is written."""
    return decide(loaded(archive, name), options)


def decision_json(decision: Decision) -> str:
    """Return a decision as the JSON document whose schema is in docs/verdicts.schema.json."""
    return verdicts_json(decision)
