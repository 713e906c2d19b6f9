"""`bystander decide` and what report and gate need of it: a record, decided."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path

from bystander.archive import Archive, EndedEarly
from bystander.design import (
    Given,
    Record,
    RecordHead,
    Run,
    command_line,
    fated_told,
    inspections,
    redacted,
    run_name,
    scrubber,
)
from bystander.errors import UsageError
from bystander.exchange import verdicts_json
from bystander.flow.records.settled import judged_beside, settled_beside
from bystander.flow.records.shown import repeated_in
from bystander.flow.records.since import since_record
from bystander.flow.records.told import told_accounts, told_answers
from bystander.units import moment_text
from bystander.verdicts import (
    Decision,
    GateFinding,
    Note,
    Options,
    Since,
    decide,
    gate,
    gate_ask,
    gate_words,
    with_settled,
)

__all__ = ["beside", "decided", "decision_json", "loaded"]


def loaded(archive: Path, name: str | None) -> Record:
    """Return a record by name, the newest by default."""
    with Archive(archive) as kept:
        return kept.load(name)


def decided(
    archive: Path,
    name: str | None,
    options: Options | None = None,
    words: str | None = None,
    also: str | None = None,
    given: Given | None = None,
    redact: bool = False,
    today: date | None = None,
) -> tuple[Decision, GateFinding | None]:
    """Decide a record, and hold it against a gate; nothing is run, and nothing of the archive changes.

    Parameters
    ----------
    words, also : str or None
        What the gate looks for, as on the command line; None for no gate.
    given : Given, optional
        What the commands that are told must repeat.
    redact : bool
        Leave out who, where and what exactly.
    today : date, optional
        The day against which it is held what was settled; this one by default.

    Raises
    ------
    UsageError
        On options that the record does not know, on wrong words, and on a gate over an exploration.
    """
    looked_for = None if words is None else gate_words(words)
    with Archive(archive) as kept:
        record = kept.load(name)
        if record.head.only_inspected and (inspected := inspections(record.head)):
            raise UsageError(_only_inspected(kept, record.head, inspected[-1], given or Given()))
        later = _after(kept, record)
    ask = None if looked_for is None else gate_ask(looked_for, record.head.study, also)
    whole, given = record.head, given or Given()
    if redact:
        scrubbed, given, record = scrubber(whole), Given(redacted=True), redacted(record)
        later = [replace(one, why=scrubbed(one.why)) for one in later]
    decision = decide(record, replace(options or Options(), gate=ask))
    entries = settled_beside(whole, archive)
    if redact:
        entries = tuple(replace(one, because="") for one in entries)
    decision = with_settled(decision, entries, today or date.today())
    notes = (*(_ended(one) for one in later), *decision.notes)
    rows = {row.key for row in decision.primary}
    told = {} if redact else told_accounts(archive, whole)  # places are paths, and names of code
    judged = judged_beside(whole, archive) if told else ()
    accounts = {key: fated_told(account, judged) for key, account in told.items() if key in rows}
    apart = {} if redact else told_answers(archive, whole)  # what trials printed
    answers = {key: lines for key, lines in apart.items() if key in rows}
    before = None if redact else repeated_in(archive, decision)
    decision = replace(decision, notes=notes, given=given, accounts=accounts, answers=answers, repeated=before)
    return decision, None if ask is None else gate(decision, ask)


def _only_inspected(kept: Archive, head: RecordHead, run: Run, given: Given) -> str:
    """Say that a record has nothing to decide, and what there is instead."""
    timed = next((one.name for one in reversed(kept.heads()) if not one.only_inspected), None)
    other = f"; the newest record with timed trials is {timed}" if timed else ""
    return (
        f"record {head.name} was only looked into: it has no timed trials, so there is nothing to decide{other}. "
        f"{command_line('leads', run_name(head, run), given=given)} shows where the time went; bystander observe times."
    )


def _after(kept: Archive, record: Record) -> Sequence[EndedEarly]:
    """Return the last observation that ended early after the newest record, where it is this one."""
    head = record.head
    if any(other.started_wall_s > head.started_wall_s for other in kept.heads()):
        return ()
    return [one for one in kept.ended_early() if one.wall_s > head.started_wall_s][-1:]


def _ended(one: EndedEarly) -> Note:
    return Note(
        "later-ended-early",
        f"This is not the last observation: one of {moment_text(one.wall_s)} ended before its first trial ({one.why}).",
    )


def decision_json(decision: Decision, finding: GateFinding | None = None, told: Since | None = None) -> str:
    """Return a decision as the JSON document whose schema is in docs/verdicts.schema.json."""
    return verdicts_json(decision, finding, told)


def beside(archive: Path, decision: Decision, name: str | None) -> Since | None:
    """Return how a decision stands beside an earlier record; None where none is named."""
    if name is None:
        return None
    return since_record(archive, loaded(archive, decision.head.uuid), decision, name)
