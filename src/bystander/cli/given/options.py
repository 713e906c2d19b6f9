"""Options that several commands share, each described once."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bystander.errors import UnitError, UsageError
from bystander.units import parse_duration, parse_size

if TYPE_CHECKING:
    from bystander.design import Given, Key
    from bystander.verdicts import Options

__all__ = [
    "ArchiveOption",
    "ArmOption",
    "DropCachesOption",
    "GivenOption",
    "JsonOption",
    "MakeInputOption",
    "MarginOption",
    "MeasureOption",
    "OnlyOption",
    "OrderOption",
    "PlaceboOption",
    "RecordArgument",
    "RedactedOption",
    "RiskOption",
    "SpreadsheetOption",
    "StudyOption",
    "decide_options",
    "duration_option",
    "given",
    "here",
    "share_option",
    "size_option",
    "variables",
    "whole_option",
]

GivenOption = Annotated[
    str | None, typer.Option("--given", metavar="ARGUMENTS", help="Its arguments: \"port='north', days=3\".")
]
MakeInputOption = Annotated[
    str | None,
    typer.Option("--make-input", metavar="MODULE:FUNCTION", help="Make its arguments by this, which is not timed."),
]
ArchiveOption = Annotated[
    Path | None,
    typer.Option("--archive", help="Use this archive instead of .bystander/archive.sqlite here or above."),
]
StudyOption = Annotated[Path | None, typer.Option("--study", help="Read this file instead of bystander.toml.")]
JsonOption = Annotated[bool, typer.Option("--json", help="Print one JSON document for programs.")]
RedactedOption = Annotated[
    bool, typer.Option("--redacted", help="Leave out host, user, paths, values of commands, and what trials printed.")
]
SpreadsheetOption = Annotated[
    bool, typer.Option("--spreadsheet", help="Put an apostrophe before texts that a spreadsheet takes for formulas.")
]
RecordArgument = Annotated[
    str | None, typer.Argument(help="A record's name or the beginning of its UUID; the newest by default.")
]
MeasureOption = Annotated[str | None, typer.Option("--measure", help="Decide on this measure (exploration).")]
MarginOption = Annotated[
    str | None, typer.Option("--margin", help='Decide with this margin, for example "2 %" (exploration).')
]
RiskOption = Annotated[str | None, typer.Option("--risk", help='Decide at this risk, for example "1 %" (exploration).')]
ArmOption = Annotated[str | None, typer.Option("--arm", help="Show this candidate only.")]
DropCachesOption = Annotated[
    bool,
    typer.Option(
        "--drop-caches",
        help="Before each start from disk, put all files of the whole machine out of memory; needs root.",
    ),
]
PlaceboOption = Annotated[
    bool, typer.Option("--placebo", help="Add an arm made like the reference, apart from it, as a control.")
]
OrderOption = Annotated[
    str | None,
    typer.Option("--order", metavar="worst|contribution", help="By verdict, or by what a row adds to the whole load."),
]
OnlyOption = Annotated[
    list[str] | None,
    typer.Option("--only", help="Take this workload only, or those of a pattern such as 'year*'; may be repeated."),
]


def share_option(name: str, text: str | None, key: str = "margin") -> float | None:
    """Return the share that an option gives, read and checked as that key of a study is."""
    from bystander.design import STUDY_KEYS

    return None if text is None else float(_checked(name, STUDY_KEYS[key], text))


def whole_option(name: str, number: int | None, key: str) -> int | None:
    """Return the whole number that an option gives, checked as that key of a study is."""
    from bystander.design import STUDY_KEYS

    return None if number is None else int(_checked(name, STUDY_KEYS[key], number))


def _checked(name: str, key: Key, value: object) -> Any:
    from bystander.design import checked

    try:
        return checked(key, value)
    except UnitError as error:
        raise UsageError(f"{name}: {error}") from None


def duration_option(name: str, text: str | None) -> float | None:
    """Return the seconds that an option gives."""
    if text is None:
        return None
    try:
        seconds = parse_duration(text)
    except UnitError as error:
        raise UsageError(f"{name}: {error}") from None
    if seconds <= 0:
        raise UsageError(f'{name}: "{text}" is out of range; it must be above 0 s')
    return seconds


def size_option(name: str, text: str | None) -> int | None:
    """Return the bytes that an option gives."""
    try:
        return None if text is None else 0 if text.strip() == "0" else parse_size(text)
    except UnitError as error:
        raise UsageError(f"{name}: {error}") from None


def decide_options(
    measure: str | None,
    margin: str | None,
    risk: str | None,
    arm: str | None,
    only: list[str] | None,
    order: str | None = None,
) -> Options:
    """Return what the options of `decide` and `report` ask for."""
    from bystander.verdicts import Options, Order

    if order is not None and order not in list(Order):
        raise UsageError(f'--order: "{order}" is no order; write {" or ".join(Order)}')
    return Options(
        measure,
        share_option("--margin", margin),
        share_option("--risk", risk, "risk"),
        arm,
        tuple(only or ()),
        order=Order(order or Order.WORST),
    )


def given(study: Path | None = None, archive: Path | None = None, only: Sequence[str] | None = None) -> Given:
    """Return what the commands that are printed must repeat."""
    from bystander.design import Given

    return Given(str(study or ""), str(archive or ""), tuple(only or ()), str(here()), around=_around(archive))


def _around(archive: Path | None) -> str:
    """Return the folder in which a study and the archive in use lie together, "" where none does."""
    from bystander.flow.places import STUDY_FILE, find_archive

    try:
        folder = find_archive(archive, variables(), here()).absolute().parent.parent
    except UsageError:
        return ""
    return str(folder) if (folder / STUDY_FILE).is_file() else ""


def here() -> Path:
    """Return the current folder."""
    return Path.cwd()


def variables() -> Mapping[str, str]:
    """Return the environment of this process."""
    return os.environ
