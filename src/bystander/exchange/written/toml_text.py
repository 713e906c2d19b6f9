"""Values as TOML writes them; the standard library reads TOML only."""

from __future__ import annotations

import json
import re
from datetime import date
from typing import Any

__all__ = ["toml_key", "toml_value"]

_BARE_KEY = re.compile(r"[A-Za-z0-9_-]+")


def toml_value(value: Any) -> str:
    """Return a value of JSON, or a day, as TOML writes it; raise ValueError for null, which it does not have."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{toml_key(str(key))} = {toml_value(one)}" for key, one in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(map(toml_value, value)) + "]"
    if isinstance(value, date):
        return value.isoformat()
    if value is None:
        raise ValueError("TOML has no null")
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")  # which JSON takes as it is


def toml_key(name: str) -> str:
    """Return a key as TOML writes it: bare, or in quotes."""
    return name if _BARE_KEY.fullmatch(name) else toml_value(name)
