"""`bystander records import`: readings, whole records and blocks from elsewhere; nothing of them is ever run."""

from __future__ import annotations

import time
import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, BinaryIO

from bystander import __version__
from bystander.archive import Archive
from bystander.design import (
    DEFAULT_MARGIN,
    DEFAULT_RISK,
    Arm,
    ArmState,
    Command,
    MachineFacts,
    Origin,
    Provenance,
    RecordHead,
    State,
    Study,
    Workload,
)
from bystander.errors import DataError, UsageError
from bystander.exchange import (
    BLOCK_FORMAT,
    USUAL_REFERENCES,
    Imported,
    OtherTable,
    TableColumns,
    json_document,
    long_form,
    misfit,
    read_block_json,
    read_readings_csv,
    read_record_json,
    record_arrays,
)
from bystander.files import mode_at, read_at_most
from bystander.units import size_text

__all__ = ["MOST_IMPORTED", "ImportOptions", "TableColumns", "TakenIn", "import_files"]

MOST_IMPORTED = 2**29  # bytes


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
    columns : TableColumns
        Which columns hold what, in a table that is not ours.
    """

    reference: str | None = None
    name: str | None = None
    measure: str | None = None
    margin: float | None = None
    risk: float | None = None
    columns: TableColumns = field(default_factory=TableColumns)


@dataclass(frozen=True)
class TakenIn:
    """What an import did.

    Attributes
    ----------
    record : str
        The name of the record that was made, or that a block belongs to.
    sentence : str
        What was done; "" where nothing was.
    shown_by : str
        The command that shows it.
    """

    record: str
    sentence: str = ""
    notes: Sequence[str] = ()
    shown_by: str = "decide"


def _made(name: str, file: Path, notes: Sequence[str] = ()) -> TakenIn:
    return TakenIn(name, f"record {name} is made from {_called(file)}.", notes)


def import_files(sources: Sequence[str], given: BinaryIO, archive: Path, options: ImportOptions) -> TakenIn:
    """Read readings (.csv), a whole record or a block of one (.json) into the archive; return its name and notes.

    Nothing of the files is ever run.

    Parameters
    ----------
    sources : sequence of str
        Paths, or ARM=PATH; "-" for what is given.
    """
    tables, files = [], []
    for source in sources:
        arm, file = _named_source(source)
        files.append(file)
        tables.append(OtherTable(_content(file, given), _called(file), arm))
    documents = [file for file in files if file.suffix.lower() == ".json"]
    if documents and len(files) > 1:
        raise UsageError(f"{documents[0].name} is a whole record, which is taken in alone")
    if documents:
        return _import_document(tables[0].data, files[0], archive, options)
    arms = [table.arm for table in tables]
    if len(tables) > 1 and (not all(arms) or len(set(arms)) < len(arms)):
        raise UsageError("several files are one for each arm; write for example before=old.csv after=new.csv")
    table, assumed = long_form(tables, replace(options.columns, measure=options.measure))
    usual = [arm for arm in arms if arm.lower() in USUAL_REFERENCES]
    reference = options.reference or (arms[0] if len(tables) > 1 and len(usual) != 1 else None)
    imported = read_readings_csv(table, tables[0].file if len(tables) == 1 else "the files together", reference)
    imported = replace(imported, notes=(*imported.notes, *assumed))
    taken = _import_readings(imported, files[0], archive, options)
    if len(imported.arms) > 1 and not imported.blocks:
        taken = replace(taken, notes=(*taken.notes, _UNPAIRED))
    return taken


_UNPAIRED = (
    "These readings name no blocks: the arms are compared unpaired, and whatever else differed between the times at "
    "which they ran shows as a change. Random order is not known: gates count them with --gate-also unrandomised only."
)


def _named_source(source: str) -> tuple[str, Path]:
    """Return arm and path of ARM=PATH; a path that is there is a path."""
    arm, equals, path = source.partition("=")
    return (arm, Path(path)) if equals and path and arm and not mode_at(Path(source)) else ("", Path(source))


def _called(file: Path) -> str:
    return "standard input" if str(file) == "-" else file.name


def _content(file: Path, given: BinaryIO) -> bytes:
    try:
        data = given.read(MOST_IMPORTED + 1) if str(file) == "-" else read_at_most(file, MOST_IMPORTED)
    except OSError as error:
        raise DataError(f"{file.name}: it cannot be read: {error.strerror}") from None
    if data is None or len(data) > MOST_IMPORTED:
        raise DataError(f"{file.name}: it is larger than {size_text(MOST_IMPORTED)}; take it in parts")
    return data


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
        for number, trials in record.of_search.items():
            kept.add_trials(record.head, number, trials)
        for whose, packets in record.of_runs.items():
            writer.evidence(whose, packets)
        writer.looks(record.looks)
        for state in record.machine_states:
            writer.machine_state(state)
        writer.finish(record.head.state)
    return replace(_made(name, file), shown_by=record.head.shown_by)


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
        name=options.name or _called(file).removesuffix(file.suffix),
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
        arms=tuple(ArmState(name, "", "", f"imported from {_called(file)}") for name in imported.arms),
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
