"""The file of what was settled beside a study, `bystander.settled.toml`: see docs/settled.md.

It is for people too: they read it in a review, and may write it by hand. Entries are added at its end; of two on one
row, one place or one link, the later counts.
"""

from __future__ import annotations

import math
import tomllib
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from bystander.design import (
    ACCEPTED,
    LINK_FATES,
    MEASURES,
    PLACE_FATES,
    Settled,
    SettledLink,
    SettledPlace,
    is_told,
)
from bystander.errors import DataError, UnitError
from bystander.exchange.written.toml_text import toml_value
from bystander.units import parse_duration, parse_share, parse_size

__all__ = [
    "SETTLED_FILE",
    "allowed_text",
    "read_allowed",
    "read_settled",
    "read_settled_links",
    "read_settled_places",
    "settled_link_text",
    "settled_place_text",
    "settled_text",
]

SETTLED_FILE = "bystander.settled.toml"
_HEAD = """\
# What was settled: changes of rows that are accepted, what was judged of places, which edits of a chain were kept.
# bystander settle adds to it; of two entries on one of them the later counts. Commit it: it is read whenever one is
# shown.
"""
_TEXTS = ("study", "workload", "arm", "measure", "fate", "because", "record", "evidence")
_NEEDED = (*_TEXTS[:6], "day", "up_to")
_KEYS = (*_TEXTS, "day", "up_to", "until")
_PLACE_TEXTS = ("study", "workload", "place", "file", "fate", "because", "record", "evidence")
_PLACE_NEEDED = ("study", "workload", "place", "fate", "because", "day", "cost")
_PLACE_KEYS = (*_PLACE_TEXTS, "day", "cost", "up_to")
_LINK_TEXTS = ("study", "link", "key", "fate", "because", "record", "evidence")
_LINK_NEEDED = (*_LINK_TEXTS[:5], "day")
_LINK_KEYS = (*_LINK_TEXTS, "day")
_ENTRIES = ("row", "place", "link")


def read_settled(text: str, file: str) -> tuple[Settled, ...]:
    """Return all entries, in the order in which they stand.

    Raises
    ------
    DataError
        With the entry, the key, its value and what would be right.
    """
    return tuple(_entry(row, f"{file}: row {number}") for number, row in enumerate(_tables(text, file, "row"), 1))


def read_settled_places(text: str, file: str) -> tuple[SettledPlace, ...]:
    """Return all entries on places, in the order in which they stand; raises as `read_settled`."""
    return tuple(_place(one, f"{file}: place {number}") for number, one in enumerate(_tables(text, file, "place"), 1))


def read_settled_links(text: str, file: str) -> tuple[SettledLink, ...]:
    """Return all entries on edits of chains, in the order in which they stand; raises as `read_settled`."""
    return tuple(_link(one, f"{file}: link {number}") for number, one in enumerate(_tables(text, file, "link"), 1))


def _tables(text: str, file: str, name: str) -> list[Mapping[str, Any]]:
    """Return the tables of one name."""
    try:
        top = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        raise DataError(f"{file}: it cannot be read as TOML: {error}") from None
    for key, tables in top.items():
        if key not in _ENTRIES:
            raise DataError(f"{file}: {key}: there is no such table; entries are [[row]], [[place]] and [[link]]")
        if not isinstance(tables, list) or not all(isinstance(one, dict) for one in tables):
            raise DataError(f"{file}: {key}: it is no list of tables; write [[{key}]]")
    return list(top.get(name, []))


def _place(one: Mapping[str, Any], where: str) -> SettledPlace:
    texts = _texts(one, where, _PLACE_TEXTS, _PLACE_NEEDED, _PLACE_KEYS)
    if texts["fate"] not in PLACE_FATES:
        known = ", ".join(PLACE_FATES)
        raise DataError(f'{where}: fate: "{texts["fate"]}" is no fate of a place; it is one of {known}')
    try:
        cost = parse_duration(one["cost"])
        up_to = None if one.get("up_to") is None else parse_duration(one["up_to"])
    except UnitError as error:
        raise DataError(f"{where}: {error}") from None
    return SettledPlace(**texts, day=_day(one, "day", where) or date.min, cost_s=float(cost),
                        up_to_s=None if up_to is None else float(up_to))  # fmt: skip


def _link(one: Mapping[str, Any], where: str) -> SettledLink:
    texts = _texts(one, where, _LINK_TEXTS, _LINK_NEEDED, _LINK_KEYS)
    if texts["fate"] not in LINK_FATES:
        raise DataError(f'{where}: fate: "{texts["fate"]}" is no fate of a link; it is {" or ".join(LINK_FATES)}')
    return SettledLink(**texts, day=_day(one, "day", where) or date.min)


def _texts(
    one: Mapping[str, Any], where: str, names: Sequence[str], needed: Sequence[str], keys: Sequence[str]
) -> dict[str, str]:
    """Return the texts of an entry whose keys are all known, and there."""
    for key in one:
        if key not in keys:
            raise DataError(f"{where}: {key}: there is no such key; known keys are {', '.join(keys)}")
    for key in needed:
        if key not in one:
            raise DataError(f"{where}: {key} is missing")
    texts = {key: one.get(key, "") for key in names}
    for key, value in texts.items():
        if not isinstance(value, str) or (key in needed and not value.strip()):
            raise DataError(f"{where}: {key}: {toml_value(value) if value is not None else ''} is no text")
    return texts


def _day(one: Mapping[str, Any], key: str, where: str) -> date | None:
    day = one.get(key)
    if day is not None and type(day) is not date:
        raise DataError(f"{where}: {key}: {toml_value(str(day))} is no day; write for example 2027-03-01")
    return day


def _entry(row: Mapping[str, Any], where: str) -> Settled:
    texts = _texts(row, where, _TEXTS, _NEEDED, _KEYS)
    if texts["fate"] != ACCEPTED:
        raise DataError(f'{where}: fate: "{texts["fate"]}" is no fate of a row; write "{ACCEPTED}"')
    if texts["measure"] not in MEASURES and not is_told(texts["measure"]):
        raise DataError(f'{where}: measure: there is no measure "{texts["measure"]}"')
    days = {key: _day(row, key, where) for key in ("day", "until")}
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
    return _added(before, "row", {key: values[key] for key in order if key in values})


def settled_place_text(before: str, entry: SettledPlace) -> str:
    """Return the text of the file with one entry on a place more at its end."""
    values: dict[str, Any] = {key: getattr(entry, key) for key in _PLACE_TEXTS[:6] if getattr(entry, key)}
    values["cost"] = allowed_text(entry.cost_s, False, "s")
    if entry.up_to_s is not None:
        values["up_to"] = allowed_text(entry.up_to_s, False, "s")
    values |= {"day": entry.day, "record": entry.record, "evidence": entry.evidence}
    return _added(before, "place", values)


def settled_link_text(before: str, entry: SettledLink) -> str:
    """Return the text of the file with one entry on an edit of a chain more at its end."""
    values: dict[str, Any] = {key: getattr(entry, key) for key in _LINK_TEXTS[:5]}
    return _added(before, "link", values | {"day": entry.day, "record": entry.record, "evidence": entry.evidence})


def _added(before: str, table: str, values: Mapping[str, Any]) -> str:
    lines = [f"{key} = {toml_value(value)}" for key, value in values.items()]
    begin = before if before.strip() else _HEAD
    return f"{begin.rstrip()}\n\n[[{table}]]\n" + "\n".join(lines) + "\n"
