"""Command templates: split as a shell splits, then filled, so that a value is never split again."""

from __future__ import annotations

import re
import shlex
from collections.abc import Mapping

__all__ = ["fill_plain", "fill_shell", "filled_words", "placeholder_names"]

_MARK = re.compile(r"\{\{|\}\}|\{([A-Za-z_][A-Za-z0-9_]*)\}")


def placeholder_names(template: str) -> list[str]:
    """Return the names in braces, in order of appearance; doubled braces are plain ones."""
    return [match[1] for match in _MARK.finditer(template) if match[1]]


def _filled(text: str, values: Mapping[str, str], quote: bool) -> str:
    def value(match: re.Match[str]) -> str:
        if match[1] is None:
            return match[0][0]
        return shlex.quote(values[match[1]]) if quote else values[match[1]]

    return _MARK.sub(value, text)


def filled_words(template: str, values: Mapping[str, str]) -> list[str]:
    """Return the words of a command; raise ValueError on a quote that is never closed."""
    return [_filled(word, values, quote=False) for word in shlex.split(template)]


def fill_plain(text: str, values: Mapping[str, str]) -> str:
    """Return a text filled; raise KeyError for a name that there is not."""
    return _filled(text, values, quote=False)


def fill_shell(template: str, values: Mapping[str, str]) -> str:
    """Return a line for the shell, each value quoted."""
    return _filled(template, values, quote=True)
