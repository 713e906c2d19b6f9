"""JSON as all documents are written: readable, and without a character that a terminal would obey."""

from __future__ import annotations

import json
import re
from typing import Any

__all__ = ["json_text"]

# DEL and C1, line separators, joiners and controls of direction, the byte order mark, halves of letters. C0 is escaped
# by JSON itself. All of them can only stand inside texts.
_OBEYED = re.compile("[\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ud800-\udfff\ufff9-\ufffb]")


def json_text(document: Any, indent: int | None = None) -> str:
    """Return a document as JSON (RFC 8259); raise ValueError for a number that JSON cannot tell."""
    text = json.dumps(document, indent=indent, ensure_ascii=False, allow_nan=False)
    return _OBEYED.sub(lambda found: "\\u" + format(ord(found[0]), "04x"), text)
