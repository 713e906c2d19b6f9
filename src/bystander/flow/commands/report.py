"""`bystander report`, and the files of `observe`: a decision, written by the suffix of a file's name."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from bystander.errors import UsageError
from bystander.exchange import junit_xml, openmetrics_text, rows_csv, verdicts_json
from bystander.files import write_whole
from bystander.flow.commands.over_time import seen_trials
from bystander.flow.places import refuse_unfit
from bystander.report import PICTURE_SUFFIXES, PICTURES, markdown, page, picture
from bystander.units import either
from bystander.verdicts import Decision, GateFinding

__all__ = [
    "FORMATS",
    "Asked",
    "append_report",
    "append_text",
    "refuse_picture",
    "refuse_targets",
    "register_format",
    "remove_stale",
    "write_reports",
]


@dataclass(frozen=True)
class Asked:
    """What is to be written.

    Attributes
    ----------
    gate : GateFinding or None
        What came of a gate.
    archive : Path or None
        Where the record is, for what is read of it only now; None for a decision alone.
    picture : str
        What a picture shows, among `PICTURES`.
    """

    decision: Decision
    gate: GateFinding | None = None
    archive: Path | None = None
    picture: str = PICTURES[0]


Writer = Callable[[Asked], str | bytes]


def _page(asked: Asked) -> str:
    seen = seen_trials(asked.archive, asked.decision) if asked.archive else None
    return page(asked.decision, asked.gate, seen)


def _picture(suffix: str) -> Writer:
    return lambda asked: picture(asked.decision, asked.picture, suffix)


FORMATS: dict[str, Writer] = {
    ".html": _page,
    ".md": lambda asked: markdown(asked.decision, asked.gate),
    ".json": lambda asked: verdicts_json(asked.decision, asked.gate),
    ".csv": lambda asked: rows_csv(asked.decision, asked.gate),
    ".xml": lambda asked: junit_xml(asked.decision, asked.gate),
    ".openmetrics": lambda asked: openmetrics_text(asked.decision, asked.gate),
    **{suffix: _picture(suffix) for suffix in PICTURE_SUFFIXES},
}


def register_format(suffix: str, writer: Writer) -> None:
    """Add a format; the suffix begins with a dot."""
    FORMATS[suffix] = writer


def refuse_targets(targets: Sequence[Path], summary: Path | None = None) -> None:
    """Raise UsageError when a file's name does not tell its kind, it is named twice, or its folder is missing."""
    refuse_unfit(targets, FORMATS, "the kind of report", summary)


def refuse_picture(asked: str | None, targets: Sequence[Path]) -> str:
    """Return what pictures show; raise UsageError where that is asked for and no target is one, or it is not known."""
    if asked is None:
        return PICTURES[0]
    if asked not in PICTURES:
        raise UsageError(f'--picture: "{asked}" is none; it is {either(PICTURES)}')
    if not any(target.suffix.lower() in PICTURE_SUFFIXES for target in targets):
        raise UsageError(f"--picture says what a picture shows; name one: --to {asked}{either(PICTURE_SUFFIXES)}")
    return asked


def remove_stale(targets: Sequence[Path]) -> None:
    """Remove what earlier observations left under these names: nobody then takes it for what this one found."""
    for target in targets:
        target.unlink(missing_ok=True)


def write_reports(asked: Asked, targets: Sequence[Path]) -> None:
    """Write reports, each whole or not at all, to targets that were not refused."""
    for target in targets:
        write_whole(target, FORMATS[target.suffix.lower()](asked))


def append_report(decision: Decision, gate: GateFinding | None, file: Path) -> None:
    """Append the report as Markdown to a file that a pipeline shows."""
    append_text(markdown(decision, gate), file)


def append_text(text: str, file: Path) -> None:
    """Append a text to a file that others write to as well, in one piece."""
    with os.fdopen(os.open(file, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o666), "ab") as out:
        out.write(text.encode("utf-8", "replace"))
