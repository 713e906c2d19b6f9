"""The formats of reports: the suffix of --to, and who writes it."""

from __future__ import annotations

from collections.abc import Callable

from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.verdicts import Decision

__all__ = ["FORMATS", "register_format"]

FORMATS: dict[str, Callable[[Decision], str]] = {".md": markdown, ".html": page}


def register_format(suffix: str, writer: Callable[[Decision], str]) -> None:
    """Add a format; the suffix begins with a dot."""
    FORMATS[suffix] = writer
