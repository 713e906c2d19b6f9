"""The two consoles: results on standard output, progress and warnings on standard error."""

from __future__ import annotations

import sys
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.text import Text
from rich.theme import Theme

from bystander.units import plain_text

if TYPE_CHECKING:
    from bystander.design import RecordHead

__all__ = ["STYLES", "began", "can_draw", "errors", "output", "warn"]

STYLES = Theme(
    {
        "faster": "bold #5fafff",
        "less": "bold #5fafff",
        "higher": "bold #5fafff",
        "slower": "bold #ff8700",
        "more": "bold #ff8700",
        "lower": "bold #ff8700",
        "failed": "bold #ff5f00",
        "same": "grey66",
        "unclear": "default",
        "quiet": "grey62",
        "title": "bold",
    }
)


class _PlainConsole(Console):
    """A console to which text from studies and files cannot talk: its control characters are replaced."""

    def render_str(self, text: str, **options: Any) -> Text:
        return super().render_str(plain_text(text), **options)


def output() -> Console:
    """Return the console for results."""
    return _PlainConsole(theme=STYLES, highlight=False, soft_wrap=False, emoji=False, markup=False)


def errors() -> Console:
    """Return the console for progress and warnings."""
    return _PlainConsole(theme=STYLES, stderr=True, highlight=False, emoji=False, markup=False)


def can_draw() -> bool:
    """Whether standard output takes more than ASCII."""
    return "utf" in (sys.stdout.encoding or "").lower()


def began(head: RecordHead) -> str:
    """Return when a record was begun, in UTC."""
    return datetime.fromtimestamp(head.started_wall_s, UTC).strftime("%Y-%m-%d %H:%M UTC")


def warn(text: str) -> None:
    """Print a warning."""
    errors().print(f"bystander: {text}", soft_wrap=True)
