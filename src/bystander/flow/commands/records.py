"""`bystander records`: what the archive holds, and what goes in and out of it."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bystander import __version__
from bystander.archive import Archive
from bystander.design import (
    DEFAULT_MARGIN,
    DEFAULT_RISK,
    TIMED,
    Arm,
    ArmState,
    Command,
    MachineFacts,
    Origin,
    Provenance,
    Record,
    RecordHead,
    State,
    Study,
    Workload,
    redacted,
)
from bystander.errors import DataError, UsageError
from bystander.exchange import (
    BLOCK_FORMAT,
    Imported,
    archive_size_json,
    json_document,
    misfit,
    read_block_json,
    read_readings_csv,
    read_record_json,
    readings_csv,
    record_arrays,
    record_json,
    record_shown_json,
    records_listed_json,
)
from bystander.files import read_at_most
from bystander.units import size_text
from bystander.verdicts import decide

if TYPE_CHECKING:
    from bystander.archive import EndedEarly
    from bystander.archive.mend import Mended

__all__ = [
    "EXPORTS",
    "ArchiveSize",
    "ImportOptions",
    "add_note",
    "archive_size",
    "compact_archive",
    "ended_early",
    "export_record",
    "heads",
    "import_file",
    "mend_archive",
    "record_notes",
    "record_shown_json",
    "records_listed_json",
    "remove_records",
    "size_json",
    "tainted_records",
    "whole_record",
]


@dataclass(frozen=True)
class ImportOptions:
    """What a CSV file does not say; None leaves the default.

    Attributes
    ----------
    reference : str or None
        The reference arm.
    name : str or None
        The study's name; the file's by default.
    measure : str or None
        The measure to decide on.
    """

    reference: str | None = None
    name: str | None = None
    measure: str | None = None
    margin: float | None = None
    risk: float | None = None


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
        return replace(record, of_runs=of_runs)


_MOST_IMPORTED = 2**29  # bytes

# One line per format: the suffix of --to, and who writes it, for a spreadsheet or not.
EXPORTS: dict[str, Callable[[Record, bool], str]] = {
    ".csv": readings_csv,
    ".json": lambda record, _: record_json(record),
}


def export_record(record: Record, suffix: str, spreadsheet: bool = False, redact: bool = False) -> str:
    """Return a record as text: readings for .csv, everything for .json.

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
    raise UsageError(f'--to: a record is exported as {" or ".join(EXPORTS)}, not as "{suffix}"')


@dataclass(frozen=True)
class TakenIn:
    """What an import did.

    Attributes
    ----------
    record : str
        The name of the record that was made, or that a block belongs to.
    sentence : str
        What was done; "" where nothing was.
    only_inspected : bool
        Whether the record has inspections alone, and nothing to decide.
    """

    record: str
    sentence: str = ""
    notes: Sequence[str] = ()
    only_inspected: bool = False


def _made(name: str, file: Path, notes: Sequence[str] = ()) -> TakenIn:
    return TakenIn(name, f"record {name} is made from {file.name}.", notes)


def import_file(file: Path, archive: Path, options: ImportOptions) -> TakenIn:
    """Read readings (.csv), a whole record or a block of one (.json) into the archive; return its name and notes.

    Nothing of the file is ever run.
    """
    try:
        data = read_at_most(file, _MOST_IMPORTED)
        if data is None:
            raise DataError(f"{file.name}: it is larger than {size_text(_MOST_IMPORTED)}; take it in parts")
    except OSError as error:
        raise DataError(f"{file.name}: it cannot be read: {error.strerror}") from None
    if file.suffix.lower() == ".json":
        return _import_document(data, file, archive, options)
    imported = read_readings_csv(data, file.name, options.reference)
    return _import_readings(imported, file, archive, options)


def _import_document(data: bytes, file: Path, archive: Path, options: ImportOptions) -> TakenIn:
    """Take in a whole record, or a block that ran elsewhere."""
    if options != ImportOptions():
        raise UsageError(
            "a whole record has its own study: --reference, --name, --measure, --margin and --risk do not apply"
        )
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        raise DataError(f"{file.name}: it is no UTF-8 text") from None
    document = json_document(text, file.name)
    if document.get("format") == BLOCK_FORMAT:
        return _take_block(document, file, archive)
    record = read_record_json(text, file.name)
    with Archive(archive, create=True) as kept, kept.atomic():
        writer, name = kept.begin(replace(record.head, provenance=Provenance.IMPORTED))
        writer.arrays(record_arrays(record), record.blocks)
        for whose, packets in record.of_runs.items():
            writer.evidence(whose, packets)
        writer.looks(record.looks)
        for state in record.machine_states:
            writer.machine_state(state)
        writer.finish(record.head.state)
    return replace(_made(name, file), only_inspected=record.head.only_inspected)


def _take_block(document: dict[str, Any], file: Path, archive: Path) -> TakenIn:
    """Take a block that ran elsewhere into the record that it belongs to, once."""
    sent = read_block_json(document, file.name)
    with Archive(archive) as kept:
        head = kept.head(sent.record)
        if why := misfit(head, sent):
            raise DataError(f"{file.name}: {why}")
        workload = head.study.workloads[sent.ran.workload]
        taken = kept.writer(head).take(sent.ran, workload.limit_s, sent.machine)
    name = f"block {sent.ran.number} of {workload.name}"
    if taken:
        return TakenIn(head.name, f"{name} is taken into record {head.name}.")
    return TakenIn(head.name, notes=(f"{name} is in record {head.name} already; it was not taken in again.",))


def _import_readings(imported: Imported, file: Path, archive: Path, options: ImportOptions) -> TakenIn:
    names = [measure.name for measure in imported.measures]
    measure = options.measure or ("elapsed" if "elapsed" in names else names[0])
    if measure not in names:
        raise UsageError(f'--measure: {file.name} has no measure "{measure}"; it has {", ".join(names)}')
    study = Study(
        name=options.name or file.stem,
        arms=tuple(Arm(name) for name in imported.arms),
        workloads=tuple(Workload(name, name, Command("")) for name in imported.workloads),
        margin=DEFAULT_MARGIN if options.margin is None else options.margin,
        risk=DEFAULT_RISK if options.risk is None else options.risk,
        blocks=max(1, imported.blocks),
        measure=measure,
        seed=0,
    )
    head = RecordHead(
        uuid=str(uuid.uuid4()),
        name="",
        origin=Origin.IMPORTED,
        state=State.RUNNING,
        started_wall_s=time.time() if imported.started_wall_s is None else imported.started_wall_s,
        study=study,
        study_folder=str(file.resolve().parent),
        arms=tuple(ArmState(name, "", "", f"imported from {file.name}") for name in imported.arms),
        workload_keys=(),
        measures=imported.measures,
        machines=tuple(MachineFacts(host=name) for name in imported.machines),
        version=__version__,
        notes=imported.notes,
        provenance=Provenance.IMPORTED,
    )
    with Archive(archive, create=True) as kept, kept.atomic():
        writer, name = kept.begin(head)
        writer.arrays(imported.arrays)
        writer.finish(State.COMPLETE)
    return _made(name, file, imported.notes)


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
    """

    file: int
    by_record: Mapping[str, tuple[int, int]]
    evidence_files: int
    arms: int


def archive_size(archive: Path) -> ArchiveSize:
    """Return what an archive, its evidence and the arms beside it take."""
    with Archive(archive) as kept:
        by_record, evidence = kept.record_bytes(), kept.evidence_file_bytes()
    files = [archive, *(archive.with_name(archive.name + end) for end in ("-wal", "-shm"))]
    folders = [archive.parent / name for name in ("arms", "objects")]
    arms = sum(p.lstat().st_size for folder in folders if folder.is_dir() for p in folder.rglob("*") if p.is_file())
    return ArchiveSize(sum(f.stat().st_size for f in files if f.exists()), by_record, evidence, arms)


def size_json(size: ArchiveSize) -> str:
    """Return the size of an archive as one JSON document."""
    return archive_size_json(size.file, size.arms, size.evidence_files, size.by_record)


def compact_archive(archive: Path) -> tuple[int, int]:
    """Give the room of removed records back; return the file's bytes before and after."""
    with Archive(archive):
        pass  # says what is wrong with it, if anything
    from bystander.archive.care import compact

    return compact(archive)


def mend_archive(damaged: Path, target: Path, told: Callable[[str, int], None]) -> Mended:
    """Save what can be read of a damaged archive into a new one."""
    if not damaged.exists():
        raise UsageError(f"there is no archive {damaged}")
    from bystander.archive.mend import mend

    return mend(damaged, target, told)
