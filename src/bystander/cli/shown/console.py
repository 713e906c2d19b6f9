"""The two consoles: results on standard output, progress and warnings on standard error."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from typing import Any

from rich.console import Console, ConsoleOptions
from rich.segment import Segment
from rich.theme import Theme

from bystander.units import plain_text

__all__ = ["STYLES", "can_draw", "errors", "output", "tell", "warn"]

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

    def render(self, renderable: Any, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        for text, style, control in super().render(renderable, options):
            yield Segment(text if control else plain_text(text), style, control)


def _plain() -> dict[str, Any]:
    """Return what keeps a console from writing any escape code, where NO_COLOR asks for none: bold is one too."""
    return {"force_terminal": False, "color_system": None} if os.environ.get("NO_COLOR") else {}


def output() -> Console:
    """Return the console for results."""
    return _PlainConsole(theme=STYLES, highlight=False, soft_wrap=False, emoji=False, markup=False, **_plain())


def errors() -> Console:
    """Return the console for progress and warnings."""
    return _PlainConsole(theme=STYLES, stderr=True, highlight=False, emoji=False, markup=False, **_plain())


def can_draw() -> bool:
    """Whether standard output takes more than ASCII."""
    return "utf" in (sys.stdout.encoding or "").lower()


def tell(console: Console, text: str, style: str | None = None) -> None:
    """Print a text; a command in it stands on its own line, and is never broken: it is there to be copied."""
    for line in text.split("\n"):
        console.print(line, style=style, soft_wrap=line.startswith("  bystander "))


def warn(text: str) -> None:
    """Print a warning."""
    errors().print(f"bystander: {text}", soft_wrap=True)
