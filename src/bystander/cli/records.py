"""`bystander records`."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Annotated

import typer

from bystander.cli.given.options import (
    ArchiveOption,
    JsonOption,
    MarginOption,
    RecordArgument,
    RedactedOption,
    RiskOption,
    SpreadsheetOption,
    given,
    here,
    share_option,
    variables,
)
from bystander.cli.shown.said import hand_over, say
from bystander.files import write_whole

__all__ = ["app"]

_ENDED_SHOWN = 3
_PROGRESS_S = 2.0
_LEAST_NAME, _FOLDED = 15, 10  # of the table of levels

app = typer.Typer(
    help="What the archive holds, and its care: list, show, levels, export, import, note, remove, size, compact, mend.",
    no_args_is_help=True,
    rich_markup_mode=None,
)


@app.command("list", epilog="Example: bystander records list")
def list_records(json: JsonOption = False, archive: ArchiveOption = None) -> None:
    """List the records, the newest last."""
    from rich.table import Table

    from bystander.cli.shown.console import output, tell
    from bystander.design import command_line
    from bystander.flow.commands.records import ended_early, heads, records_listed_json, tainted_records
    from bystander.flow.places import find_archive
    from bystander.units import moment_text

    place = find_archive(archive, variables(), here())
    found, tainted = heads(place), tainted_records(place)
    if json:
        hand_over(records_listed_json(found, tainted))
        return
    table = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="quiet")
    for title in ("record", "begun (UTC)", "state", "arms", "workloads"):
        table.add_column(title, overflow="fold", no_wrap=title in ("record", "workloads"))
    for head in found:
        arms = ", ".join(arm.name for arm in head.study.arms)
        state = head.state if head.complete else "unfinished"
        state += ", TAINTED" if head.name in tainted else ""
        begun, workloads = moment_text(head.started_wall_s).removesuffix(" UTC"), str(len(head.study.workloads))
        table.add_row(head.name, begun, state, arms, workloads)
    console = output()
    console.print(table)
    for one in ended_early(place)[-_ENDED_SHOWN:]:
        console.print(
            f"An observation of {moment_text(one.wall_s)} ended before its first trial: {one.why}", style="quiet"
        )
    words = (found[-1].shown_by, found[-1].name) if found else ("observe",)
    tell(console, f"Next:\n  {command_line(*words, given=given(archive=archive))}")


@app.command(
    "show",
    epilog="Examples: bystander records show harbour-office-1 | "
    "bystander records show harbour-office-1 --trial gauge/7 --to trial.html",
)
def show_record(
    record: RecordArgument = None,
    trial: Annotated[
        str | None,
        typer.Option("--trial", help="One trial over time: WORKLOAD/BLOCK, or WORKLOAD/BLOCK/ARM for one candidate."),
    ] = None,
    to: Annotated[
        Path | None, typer.Option("--to", help="The file for the trial: .html, .svg, or .json (OTLP spans).")
    ] = None,
    json: JsonOption = False,
    archive: ArchiveOption = None,
) -> None:
    """Show what a record is about: its study, arms, machine, and how many trials it holds; or one trial over time."""
    if trial is not None or to is not None:
        _draw_trial(record, trial, to, archive)
        return
    from bystander.cli.shown.console import output, tell
    from bystander.design import command_line, inspection_lines, machine_sentences, machine_title
    from bystander.flow.commands.records import record_notes, record_shown_json, whole_record
    from bystander.flow.places import find_archive
    from bystander.units import listed, moment_text, share_text
    from bystander.verdicts import over_time_lines

    whole = whole_record(find_archive(archive, variables(), here()), record)
    head, trials = whole.head, whole.trials
    failed = int((trials.status != 0).sum())
    if json:
        hand_over(record_shown_json(whole))
        return
    console, again = output(), given(archive=archive)
    console.print(f"{head.name}: {head.study.name}", style="title")
    state = head.state if head.complete else "unfinished"
    since = f", {head.provenance} here since" if head.provenance and head.provenance.value != head.origin.value else ""
    console.print(f"{head.origin} {moment_text(head.started_wall_s)}{since}, {state}, UUID {head.uuid}")
    for note in record_notes(whole):
        console.print(note)
    for arm in head.arms:
        console.print(f"arm {arm.name}: {arm.identity}")
    names = [workload.name for workload in head.study.workloads]
    console.print(f"workloads: {listed(names, 8)}")
    most = "at most " if head.study.stops_early else ""
    console.print(
        f"trials: {len(trials)}, {failed} of them failed; blocks planned for each workload: "
        f"{most}{head.study.blocks_text}"
    )
    console.print(
        f"margin {share_text(head.study.margin)}, risk {share_text(head.study.risk)}, seed {head.study.seed}, "
        f"Bystander {head.version}"
    )
    if head.study.conditions_text:
        console.print(head.study.conditions_text)
    console.print(f"machine: {machine_title(head.machine)}")
    for sentence in machine_sentences(head.machine):
        console.print(sentence)
    for text in over_time_lines(whole, again):
        tell(console, text)
    if lines := inspection_lines(head):
        console.print("inspections:")
        for line in lines:
            console.print(f"  {line}")
    tell(console, f"Next:\n  {command_line(head.shown_by, head.name, given=again)}")


def _draw_trial(record: str | None, trial: str | None, to: Path | None, archive: Path | None) -> None:
    """Write one trial over time."""
    from bystander.errors import UsageError
    from bystander.flow.commands.over_time import trial_over_time
    from bystander.flow.places import find_archive

    if trial is None or to is None:
        raise UsageError("--trial and --to go together: --trial year/7 --to trial.html")
    text = trial_over_time(find_archive(archive, variables(), here()), record, trial, to.suffix.lower())
    write_whole(to, text)
    say(f"wrote {to}")


@app.command("levels", epilog="Example: bystander records levels")
def show_levels(record: RecordArgument = None, json: JsonOption = False, archive: ArchiveOption = None) -> None:
    """Show how much samples, trials, blocks and records of the same code differ, and which repetition helps."""
    from rich.table import Table

    from bystander.cli.shown.console import output
    from bystander.flow.commands.levels import level_text, levels_json, levels_sentences, of_text, record_levels
    from bystander.flow.places import find_archive
    from bystander.units import numbered

    head, found = record_levels(find_archive(archive, variables(), here()), record)
    if json:
        hand_over(levels_json(head, found))
        return
    table = Table(box=None, padding=(0, 2, 0, 0), pad_edge=False, header_style="quiet")
    lines = []
    for one in found:
        spread = one.spread
        cells = (spread.samples, spread.trials, spread.blocks, one.records)
        lines.append([*map(level_text, cells), of_text(one)])
    titles = ("samples", "trials", "blocks", "records", "from")
    widths = [max(map(len, column)) + 2 for column in zip(titles, *lines, strict=True)]
    room = output().width - sum(widths)
    folds = room < _LEAST_NAME  # then the last column, which holds no level, takes several lines
    names = [one.workload for one in found]
    forms = numbered(names, room + (widths[-1] - _FOLDED if folds else 0)) if names else {}
    for title in ("workload", *titles):
        table.add_column(title, no_wrap=not (folds and title == "from"))
    for name, line in zip(names, lines, strict=True):
        table.add_row(forms[name], *line)
    console = output()
    console.print(f"{head.name}: how much the same code differs from itself, as standard deviations", style="title")
    console.print(table)
    for sentence in levels_sentences(found):
        console.print(sentence)
    if not found:
        console.print("No workload has blocks of two arms without failures.")


@app.command(
    "export",
    epilog="Examples: bystander records export --to readings.csv | bystander records export --to record.json",
)
def export(
    record: RecordArgument = None,
    to: Annotated[
        Path | None,
        typer.Option("--to", help="The file to write, .csv, .parquet or .json; CSV on standard output by default."),
    ] = None,
    spreadsheet: SpreadsheetOption = False,
    redacted: RedactedOption = False,
    archive: ArchiveOption = None,
) -> None:
    """Write all trials of a record: readings as CSV or Parquet, or everything as JSON."""
    from bystander.design import command_line
    from bystander.flow.commands.records import export_record, whole_record
    from bystander.flow.places import find_archive

    suffix = to.suffix.lower() if to else ".csv"
    whole = whole_record(find_archive(archive, variables(), here()), record, payloads=suffix == ".json")
    data = export_record(whole, suffix, spreadsheet, redacted)
    if to is None:
        hand_over(str(data), newline=False)
        return
    write_whole(to, data)
    say(f"{to} is written: {len(whole.trials)} trials of {whole.head.name}.")
    if isinstance(data, bytes):
        say(f'Next: read it, with pandas for example: pandas.read_parquet("{to}")')
        return
    other = command_line("records", "import", str(to), "--archive", "other.sqlite")
    say(f"Next, with another archive:\n  {other}")


@app.command(
    "import",
    epilog="Examples: bystander records import timings.csv --reference old | "
    "bystander records import before=old.csv after=new.csv --value-column ms --unit ms",
)
def import_(
    files: Annotated[
        list[str],
        typer.Argument(
            metavar="FILE ...",
            help="Readings as .csv, or one number a line (- for standard input); ARM=FILE, a file for each arm; or a "
            "whole record as .json.",
        ),
    ],
    reference: Annotated[
        str | None,
        typer.Option("--reference", help="The arm to compare with; by default before, base, reference or old."),
    ] = None,
    name: Annotated[str | None, typer.Option("--name", help="The study's name; the file's by default.")] = None,
    measure: Annotated[
        str | None,
        typer.Option("--measure", help="The measure to decide on; elapsed, or the first, by default."),
    ] = None,
    workload_column: Annotated[
        str | None, typer.Option("--workload-column", metavar="NAME", help="The column that names the workload.")
    ] = None,
    arm_column: Annotated[
        str | None, typer.Option("--arm-column", metavar="NAME", help="The column that names the arm.")
    ] = None,
    value_column: Annotated[
        str | None, typer.Option("--value-column", metavar="NAME", help="The column that holds the values.")
    ] = None,
    unit: Annotated[
        str | None, typer.Option("--unit", help='The unit of all values, for example "ms"; seconds by default.')
    ] = None,
    margin: MarginOption = None,
    risk: RiskOption = None,
    archive: ArchiveOption = None,
) -> None:
    """Read timings from any other source into a record of its own. Nothing is run."""
    from bystander.cli.shown.console import warn
    from bystander.design import command_line
    from bystander.flow.places import import_archive
    from bystander.flow.records.imports import ImportOptions, TableColumns, import_files

    options = ImportOptions(
        reference,
        name,
        measure,
        share_option("--margin", margin),
        share_option("--risk", risk, "risk"),
        TableColumns(workload_column, arm_column, value_column, unit),
    )
    taken = import_files(files, sys.stdin.buffer, import_archive(archive, variables(), here()), options)
    for note in taken.notes:
        warn(note)
    if taken.sentence:
        say(taken.sentence)
    say(f"Next:\n  {command_line(taken.shown_by, taken.record, given=given(archive=archive))}")


@app.command("note", epilog="Example: bystander records note harbour-office-1 'the crane was running'")
def note(
    record: Annotated[str, typer.Argument(help="A record's name or the beginning of its UUID.")],
    text: Annotated[str, typer.Argument(help="What every output of this record shall repeat.")],
    archive: ArchiveOption = None,
) -> None:
    """Add a note to a record; every output of it repeats the note."""
    from bystander.flow.commands.records import add_note
    from bystander.flow.places import find_archive

    name = add_note(find_archive(archive, variables(), here()), record, text)
    say(f"record {name} has a note more.")


@app.command("remove", epilog="Example: bystander records remove harbour-office-1 --yes")
def remove(
    records: Annotated[list[str], typer.Argument(help="Names of records.")],
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    archive: ArchiveOption = None,
) -> None:
    """Remove records and all their trials; this cannot be undone."""
    from bystander.design import command_line
    from bystander.flow.commands.records import remove_records
    from bystander.flow.places import find_archive

    target = find_archive(archive, variables(), here())
    if not yes and not typer.confirm(f"Remove {', '.join(records)} and all trials in it?"):
        say("nothing was removed.")
        return
    remove_records(target, records)
    say(f"removed: {', '.join(records)}.")
    say(f"Next: give the room back:\n  {command_line('records', 'compact', given=given(archive=archive))}")


@app.command("size", epilog="Example: bystander records size")
def size(json: JsonOption = False, archive: ArchiveOption = None) -> None:
    """Show what the archive takes: its file, readings and evidence of each record, arms and states beside it."""
    from bystander.flow.commands.records import archive_size, size_json
    from bystander.flow.places import find_archive
    from bystander.units import size_text

    target = find_archive(archive, variables(), here())
    found = archive_size(target)
    if json:
        hand_over(size_json(found))
        return
    say(f"archive {target}: {size_text(found.file)}")
    for name, (readings, evidence) in found.by_record.items():
        more = f", evidence {size_text(evidence)}" if evidence else ""
        say(f"  {name}: readings {size_text(readings)}{more}")
    if found.evidence_files:
        say(f"evidence in files beside it: {size_text(found.evidence_files)}")
    say(f"arms laid out beside it: {size_text(found.arms)}; they are made again when they are missing")
    say(f"states of folders that records keep, for --again: {size_text(found.states)}")


@app.command("compact", epilog="Example: bystander records compact")
def compact(archive: ArchiveOption = None) -> None:
    """Give the room of removed records back to the disk."""
    from bystander.flow.commands.records import compact_archive
    from bystander.flow.places import find_archive
    from bystander.units import size_text

    before, after, why = compact_archive(find_archive(archive, variables(), here()))
    say(f"the archive and the states that its records keep take {size_text(after)} now, {size_text(before)} before.")
    if why:
        say(f"States that no record keeps stay for now: {why}.")


@app.command("mend", epilog="Example: bystander records mend --to mended.sqlite")
def mend(
    to: Annotated[Path, typer.Option("--to", help="The new archive; it must not be there yet.")],
    archive: ArchiveOption = None,
) -> None:
    """Save what can be read of a damaged archive into a new one; the damaged one stays as it is."""
    from bystander.design import command_line
    from bystander.flow.commands.records import mend_archive
    from bystander.flow.places import find_archive
    from bystander.units import counted

    last = time.monotonic()

    def told(table: str, count: int) -> None:
        nonlocal last
        if time.monotonic() - last > _PROGRESS_S:
            last = time.monotonic()
            say(f"{counted(count, 'row')} of {table.replace('_', ' ')} so far", err=True)

    mended = mend_archive(find_archive(archive, variables(), here()), to, told)
    rows = mended.rows
    trials = rows["trial"] + rows["trial_array"]
    gaps = counted(mended.gaps, "stretch", "stretches")
    lost = f"{gaps} of rows could not be read" if mended.gaps else "every row could be read"
    say(f"{to} holds {counted(rows['record'], 'record')} and {counted(trials, 'row')} of trials; {lost}.")
    if mended.doubles:
        say(f"{counted(mended.doubles, 'trial')} of blocks that ran twice are kept and do not count.")
    if mended.orphans:
        say(f"{counted(mended.orphans, 'row')} belonged to nothing any more, and were left behind.")
    if mended.evidence_lost:
        say(f"{counted(mended.evidence_lost, 'packet')} of evidence could not be read, and were left behind.")
    say(f"Next:\n  {command_line('records', 'list', '--archive', str(to))}")
