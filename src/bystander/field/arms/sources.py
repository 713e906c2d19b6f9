"""The code that trials ran, read where it lies, and which release of a package it belongs to."""

from __future__ import annotations

import re
import stat
import tokenize
from pathlib import Path

__all__ = ["package_release", "source_text"]

_MOST_BYTES = 4 * 2**20


def source_text(file: str) -> str | None:
    """Return the text of a Python file, None where it is not there, no plain file, too large, or no text."""
    try:
        state = Path(file).stat()
        if not stat.S_ISREG(state.st_mode) or state.st_size > _MOST_BYTES:
            return None
        with tokenize.open(file) as opened:
            return opened.read()
    except (OSError, SyntaxError, ValueError):
        return None


def package_release(folder: str, package: str) -> str:
    """Return the release of a package that is installed in a folder of packages, "" where nobody says."""
    wanted = _plain(package)
    try:
        for one in Path(folder).glob("*.dist-info"):
            name, _, release = one.name.removesuffix(".dist-info").rpartition("-")
            if _plain(name) == wanted:
                return release
    except OSError:
        pass
    return ""


def _plain(name: str) -> str:
    return re.sub(r"[-_.]+", "-", name).lower()
