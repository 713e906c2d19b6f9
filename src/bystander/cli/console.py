"""The two consoles: results on standard output, progress and warnings on standard error."""

from __future__ import annotations

import sys

from rich.console import Console
from rich.theme import Theme

__all__ = ["STYLES", "errors", "output", "say", "warn"]

STYLES = Theme(
    {
        "faster": "bold #5fafff",
        "less": "bold #5fafff",
        "slower": "bold #ff8700",
        "more": "bold #ff8700",
        "failed": "bold #ff5f00",
        "same": "grey66",
        "unclear": "default",
        "quiet": "grey62",
        "title": "bold",
    }
)


def output() -> Console:
    """Return the console for results."""
    return Console(theme=STYLES, highlight=False, soft_wrap=False, emoji=False, markup=False)


def errors() -> Console:
    """Return the console for progress and warnings."""
    return Console(theme=STYLES, stderr=True, highlight=False, emoji=False, markup=False)


def can_draw() -> bool:
    """Whether standard output takes more than ASCII."""
    return "utf" in (sys.stdout.encoding or "").lower()


def say(text: str = "", style: str | None = None) -> None:
    """Print a line of results, wrapped at words."""
    output().print(text, style=style)


def warn(text: str) -> None:
    """Print a warning."""
    errors().print(f"bystander: {text}")
