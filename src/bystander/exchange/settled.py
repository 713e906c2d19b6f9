"""The file of what was settled beside a study, `bystander.settled.toml`: see docs/settled.md.

It is for people too: they read it in a review, and may write it by hand. Entries are added at its end; of two on one
row the later counts.
"""

from __future__ import annotations

import math
import tomllib
from collections.abc import Mapping
from datetime import date
from typing import Any

from bystander.design import ACCEPTED, MEASURES, Settled, is_told
from bystander.errors import DataError, UnitError
from bystander.exchange.written.toml_text import toml_value
from bystander.units import parse_duration, parse_share, parse_size

__all__ = ["SETTLED_FILE", "allowed_text", "read_allowed", "read_settled", "settled_text"]

SETTLED_FILE = "bystander.settled.toml"
_HEAD = """\
# What was settled of rows: changes that are accepted. bystander settle adds to it; of two entries on one row the later
# counts. Commit it: it is read whenever a record is decided.
"""
_TEXTS = ("study", "workload", "arm", "measure", "fate", "because", "record", "evidence")
_NEEDED = (*_TEXTS[:6], "day", "up_to")
_KEYS = (*_TEXTS, "day", "up_to", "until")


def read_settled(text: str, file: str) -> tuple[Settled, ...]:
    """Return all entries, in the order in which they stand.

    Raises
    ------
    DataError
        With the entry, the key, its value and what would be right.
    """
    try:
        top = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        raise DataError(f"{file}: it cannot be read as TOML: {error}") from None
    for key in top:
        if key != "row":
            raise DataError(f"{file}: {key}: there is no such table; entries are [[row]]")
    rows = top.get("row", [])
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise DataError(f"{file}: row: it is no list of tables; write [[row]]")
    return tuple(_entry(row, f"{file}: row {number}") for number, row in enumerate(rows, 1))


def _entry(row: Mapping[str, Any], where: str) -> Settled:
    for key in row:
        if key not in _KEYS:
            raise DataError(f"{where}: {key}: there is no such key; known keys are {', '.join(_KEYS)}")
    for key in _NEEDED:
        if key not in row:
            raise DataError(f"{where}: {key} is missing")
    texts = {key: row.get(key, "") for key in _TEXTS}
    for key, value in texts.items():
        if not isinstance(value, str) or (key in _NEEDED and not value.strip()):
            raise DataError(f"{where}: {key}: {toml_value(value) if value is not None else ''} is no text")
    if texts["fate"] != ACCEPTED:
        raise DataError(f'{where}: fate: "{texts["fate"]}" is no fate of a row; write "{ACCEPTED}"')
    if texts["measure"] not in MEASURES and not is_told(texts["measure"]):
        raise DataError(f'{where}: measure: there is no measure "{texts["measure"]}"')
    days = {key: row.get(key) for key in ("day", "until")}
    for key, day in days.items():
        if day is not None and type(day) is not date:
            raise DataError(f"{where}: {key}: {toml_value(str(day))} is no day; write for example 2027-03-01")
    try:
        up_to, relative = read_allowed(row["up_to"])
    except UnitError as error:
        raise DataError(f"{where}: up_to: {error}") from None
    return Settled(**texts, day=days["day"] or date.min, up_to=up_to, relative=relative, until=days["until"])


def read_allowed(text: object) -> tuple[float, bool]:
    """Return how much worse a row may be, and whether that is a share: "5 %", "12 ms", "64 MiB", or a number.

    Raises
    ------
    UnitError
        Where it is none of these.
    """
    if isinstance(text, str) and "%" in text:
        return parse_share(text), True
    for parse in (parse_duration, parse_size):
        try:
            return float(parse(text)), False
        except UnitError:
            continue
    if isinstance(text, int | float) and not isinstance(text, bool) and 0 <= text < 1e100:
        return float(text), False
    try:
        if isinstance(text, str) and 0 <= float(text) < 1e100:
            return float(text), False
    except ValueError:
        pass
    shown = f'"{text}"' if isinstance(text, str) else str(text)
    raise UnitError(f'{shown} is no size of a change; write for example "5 %" or "12 ms"')


def allowed_text(up_to: float, relative: bool, unit: str) -> str:
    """Return how much worse a row may be as it is written: "31 %", "12.5 ms"; never less than it is."""
    if relative:
        return f"{_up(100 * up_to)} %"
    if unit == "s":
        return f"{_up(1e3 * up_to)} ms"
    return f"{math.ceil(up_to)} B" if unit == "B" else _up(up_to)


def _up(value: float) -> str:
    """Return a number with four digits that is not below the value."""
    text = f"{value:.4g}"
    return text if float(text) >= value else f"{value * 1.001:.4g}"


def settled_text(before: str, entry: Settled, unit: str) -> str:
    """Return the text of the file with one entry more at its end."""
    values: dict[str, Any] = {key: getattr(entry, key) for key in _TEXTS}
    values["up_to"] = allowed_text(entry.up_to, entry.relative, unit)
    values["day"] = entry.day
    if entry.until:
        values["until"] = entry.until
    order = (*_TEXTS[:6], "up_to", "until", "day", "record", "evidence")
    lines = [f"{key} = {toml_value(values[key])}" for key in order if key in values]
    begin = before if before.strip() else _HEAD
    return f"{begin.rstrip()}\n\n[[row]]\n" + "\n".join(lines) + "\n"
