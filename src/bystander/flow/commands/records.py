"""`bystander records`: what the archive holds, and what goes in and out of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from bystander.archive import Archive
from bystander.design import (
    TIMED,
    Record,
    RecordHead,
    is_part_of_search,
    redacted,
)
from bystander.errors import UsageError
from bystander.exchange import (
    archive_size_json,
    readings_csv,
    readings_parquet,
    record_json,
    record_shown_json,
    records_listed_json,
)
from bystander.flow.records.kept_states import forget_states, prune_states, states_bytes
from bystander.units import either
from bystander.verdicts import decide

if TYPE_CHECKING:
    from bystander.archive import EndedEarly
    from bystander.archive.mend import Mended

__all__ = [
    "EXPORTS",
    "ArchiveSize",
    "add_note",
    "archive_size",
    "compact_archive",
    "ended_early",
    "export_record",
    "heads",
    "mend_archive",
    "record_notes",
    "record_shown_json",
    "records_listed_json",
    "remove_records",
    "size_json",
    "tainted_records",
    "whole_record",
]


def heads(archive: Path) -> list[RecordHead]:
    """Return all records of an archive, the oldest first."""
    with Archive(archive) as kept:
        return kept.heads()


def ended_early(archive: Path) -> list[EndedEarly]:
    """Return the observations that ended before their first trial, the oldest first."""
    with Archive(archive) as kept:
        return kept.ended_early()


def tainted_records(archive: Path) -> set[str]:
    """Return the names of records whose placebo is shown to differ from the reference."""
    with Archive(archive) as kept:
        with_one = [head.name for head in kept.heads() if head.study.control]
        return {name for name in with_one if decide(kept.load(name)).tainted}


def record_notes(record: Record) -> list[str]:
    """Return what every output says above a record."""
    return [note.text for note in decide(record).notes]


def whole_record(archive: Path, name: str | None, payloads: bool = False) -> Record:
    """Return a record with every trial that ended, also those of half blocks; with `payloads`, all evidence too."""
    with Archive(archive) as kept:
        record = kept.load(name, halves=True, payloads=payloads)
        if not payloads:
            return record
        # What other runs told goes along as theirs: their trials are no part of the record's own.
        of_runs = dict(record.of_runs)
        for run in record.head.runs:
            if run.purpose != TIMED:
                of_runs |= {whose: () for whose in of_runs if whose.run == run.number}
                for whose, packet in kept.run_evidence(record.head.uuid, run.number):
                    of_runs[whose] = (*of_runs.get(whose, ()), packet)
        parts = [run.number for run in record.head.runs if is_part_of_search(run)]
        of_search = {number: kept.load_run(record.head.uuid, number).trials for number in parts}
        return replace(record, of_runs=of_runs, of_search=of_search)


# One line per format: the suffix of --to, and who writes it, for a spreadsheet or not.
EXPORTS: dict[str, Callable[[Record, bool], str | bytes]] = {
    ".csv": readings_csv,
    ".parquet": lambda record, _: readings_parquet(record),
    ".json": lambda record, _: record_json(record),
}


def export_record(record: Record, suffix: str, spreadsheet: bool = False, redact: bool = False) -> str | bytes:
    """Return a record as a file holds it: readings for .csv and .parquet, everything for .json.

    Parameters
    ----------
    spreadsheet : bool
        Mark texts that a spreadsheet would take for formulas.
    redact : bool
        Leave out who, where and what exactly.
    """
    if spreadsheet and suffix != ".csv":
        raise UsageError("--spreadsheet is for .csv; no other format is read by one")
    if suffix in EXPORTS:
        return EXPORTS[suffix](redacted(record) if redact else record, spreadsheet)
    raise UsageError(f'--to: a record is exported as {either(EXPORTS)}, not as "{suffix}"')


def add_note(archive: Path, name: str | None, text: str) -> str:
    """Add a note to a record and return the record's name."""
    if not text.strip():
        raise UsageError("a note needs some words")
    with Archive(archive) as kept:
        head = kept.head(name)
        kept.note(head, text.strip())
    return head.name


def remove_records(archive: Path, names: Sequence[str]) -> None:
    """Remove records; all of them must be there."""
    with Archive(archive) as kept:
        found = [kept.head(name) for name in names]
        with kept.atomic():
            for head in found:
                kept.remove(head)
    forget_states(found, archive)


@dataclass(frozen=True)
class ArchiveSize:
    """What an archive takes, in bytes.

    Attributes
    ----------
    file : int
        Its file with its log.
    by_record : mapping
        By record: its readings, and its evidence, wherever that lies.
    evidence_files : int
        Large evidence in files beside it.
    arms : int
        Laid-out arms beside it.
    states : int
        Kept states of folders beside it.
    """

    file: int
    by_record: Mapping[str, tuple[int, int]]
    evidence_files: int
    arms: int
    states: int


def archive_size(archive: Path) -> ArchiveSize:
    """Return what an archive, its evidence and the arms beside it take."""
    with Archive(archive) as kept:
        by_record, evidence = kept.record_bytes(), kept.evidence_file_bytes()
    files = [archive, *(archive.with_name(archive.name + end) for end in ("-wal", "-shm"))]
    arms = sum(p.lstat().st_size for p in (archive.parent / "arms").rglob("*") if p.is_file())
    size = sum(f.stat().st_size for f in files if f.exists())
    return ArchiveSize(size, by_record, evidence, arms, states_bytes(archive))


def size_json(size: ArchiveSize) -> str:
    """Return the size of an archive as one JSON document."""
    return archive_size_json(size.file, size.arms, size.states, size.evidence_files, size.by_record)


def compact_archive(archive: Path) -> tuple[int, int, str]:
    """Give the room of removed records back, and that of states that none keeps.

    Returns
    -------
    before, after : int
        Bytes of the file, its evidence and the states.
    why : str
        Why states stay that no record keeps; "" where none does.
    """
    with Archive(archive):
        pass  # says what is wrong with it, if anything
    from bystander.archive.care import compact

    before, after = compact(archive)
    states_before, states_after, why = prune_states(archive)
    return before + states_before, after + states_after, why


def mend_archive(damaged: Path, target: Path, told: Callable[[str, int], None]) -> Mended:
    """Save what can be read of a damaged archive into a new one."""
    if not damaged.exists():
        raise UsageError(f"there is no archive {damaged}")
    from bystander.archive.mend import mend

    return mend(damaged, target, told)
