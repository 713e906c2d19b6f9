"""`bystander report`: a decision, written to a file by the suffix of its name."""

from __future__ import annotations

from pathlib import Path

from bystander.errors import UsageError
from bystander.files import write_whole
from bystander.report import FORMATS
from bystander.verdicts import Decision

__all__ = ["known_format", "write_report"]


def known_format(target: Path) -> str:
    """Return the suffix of a report's file; raise UsageError when no report has it."""
    suffix = target.suffix.lower()
    if suffix not in FORMATS:
        raise UsageError(f'--to: "{target.name}" does not tell the kind of report; end it in {" or ".join(FORMATS)}')
    return suffix


def write_report(decision: Decision, target: Path) -> None:
    """Write a report whole or not at all; raise UsageError when its folder is missing."""
    suffix = known_format(target)
    if not target.absolute().parent.is_dir():
        raise UsageError(f"--to: there is no folder {target.absolute().parent}; make it first")
    write_whole(target, FORMATS[suffix](decision))
