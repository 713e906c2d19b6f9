"""`bystander report`, and the files of `observe`: a decision, written by the suffix of a file's name."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

from bystander.errors import UsageError
from bystander.exchange import junit_xml, openmetrics_text, rows_csv, verdicts_json
from bystander.files import write_whole
from bystander.report import markdown, page
from bystander.verdicts import Decision, GateFinding

__all__ = [
    "FORMATS",
    "append_report",
    "append_text",
    "refuse_targets",
    "register_format",
    "remove_stale",
    "write_reports",
]

Writer = Callable[[Decision, GateFinding | None], str]

FORMATS: dict[str, Writer] = {
    ".html": page, ".md": markdown, ".json": verdicts_json, ".csv": rows_csv, ".xml": junit_xml,
    ".openmetrics": openmetrics_text,
}  # fmt: skip


def register_format(suffix: str, writer: Writer) -> None:
    """Add a format; the suffix begins with a dot. What came of a gate is None where there was none."""
    FORMATS[suffix] = writer


def refuse_targets(targets: Sequence[Path], summary: Path | None = None) -> None:
    """Raise UsageError when a file's name does not tell its kind, it is named twice, or its folder is missing."""
    for target in targets:
        if target.suffix.lower() not in FORMATS:
            known = " or ".join([", ".join(list(FORMATS)[:-1]), list(FORMATS)[-1]])
            raise UsageError(f'--to: "{target.name}" does not tell the kind of report; end it in {known}')
        if targets.count(target) > 1:
            raise UsageError(f"--to: {target} is named twice")
        if target.exists() and not (target.is_file() or target.is_dir()):
            raise UsageError(f"--to: {target} is a pipe or a device, and would be replaced; name a file")
    for option, target in (*(("--to", target) for target in targets), *([("--summary", summary)] if summary else [])):
        if not target.absolute().parent.is_dir():
            raise UsageError(f"{option}: there is no folder {target.absolute().parent}; make it first")
        if target.is_dir():
            raise UsageError(f"{option}: {target} is a folder; name a file")


def remove_stale(targets: Sequence[Path]) -> None:
    """Remove what earlier observations left under these names: nobody then takes it for what this one found."""
    for target in targets:
        target.unlink(missing_ok=True)


def write_reports(decision: Decision, targets: Sequence[Path], gate: GateFinding | None = None) -> None:
    """Write reports, each whole or not at all, to targets that were not refused."""
    for target in targets:
        write_whole(target, FORMATS[target.suffix.lower()](decision, gate))


def append_report(decision: Decision, gate: GateFinding | None, file: Path) -> None:
    """Append the report as Markdown to a file that a pipeline shows."""
    append_text(markdown(decision, gate), file)


def append_text(text: str, file: Path) -> None:
    """Append a text to a file that others write to as well, in one piece."""
    with os.fdopen(os.open(file, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o666), "ab") as out:
        out.write(text.encode("utf-8", "replace"))
