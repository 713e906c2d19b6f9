"""Markdown by type: what is not marked up by us is text, and is escaped wherever it is put in."""

from __future__ import annotations

import re
from typing import Any

from markupsafe import Markup

from bystander.units import plain_text

__all__ = ["Marked", "code_block", "joined", "md"]

_ESCAPED = str.maketrans({c: "\\" + c for c in "\\`*_{}[]<>#|~"} | {"\n": " "})
_ADDRESS = re.compile(r"(?i)\b([a-z][a-z0-9+.-]*:)(?=//)|\b(www)(?=\.)")
_NOTHING = "\u200b"  # a space of no width, at which nobody sees a link any more


class Marked(Markup):
    """Markdown that we wrote; joined or filled with a plain text, that text is escaped."""

    @classmethod
    def escape(cls, text: Any, /) -> Marked:
        """Return a text in which nothing is read as markup, and no address becomes a link."""
        if isinstance(text, Marked):
            return text
        shown = plain_text(str(text)).translate(_ESCAPED).replace("@", "@" + _NOTHING)
        return cls(_ADDRESS.sub(lambda found: found[0] + _NOTHING, shown))


def md(form: str, *values: object) -> Marked:
    """Return markup of ours, with values in its places, each escaped by its type."""
    return Marked(form).format(*values)


def joined(between: str, parts: list[Any]) -> Marked:
    """Return parts joined by markup of ours."""
    return Marked(between).join(parts)


def code_block(lines: list[str]) -> list[Marked]:
    """Return lines to be copied, as they are but for control characters; no line can end the block."""
    fence = "`" * max(3, 1 + max((len(run) for line in lines for run in re.findall("`+", line)), default=0))
    return [Marked(fence), *(Marked(plain_text(line)) for line in lines), Marked(fence)]
