"""Durations, shares and sizes: read as people write them, written as people read them.

Inside Bystander every quantity is in SI units: seconds, bytes, and shares as numbers from 0.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

from bystander.errors import UnitError

__all__ = [
    "SIZE_UNITS",
    "TIME_UNITS",
    "capital",
    "counted",
    "duration_text",
    "either",
    "listed",
    "moment_text",
    "numbered",
    "parse_duration",
    "parse_share",
    "parse_size",
    "plain_text",
    "quantity_text",
    "share_text",
    "shortened",
    "size_text",
    "told_apart",
]

TIME_UNITS = {
    "ns": 1e-9,
    "us": 1e-6,
    "µs": 1e-6,
    "μs": 1e-6,
    "ms": 1e-3,
    "s": 1.0,
    "min": 60.0,
    "h": 3600.0,
}
SIZE_UNITS = {
    "B": 1,
    "kB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "KiB": 2**10,
    "MiB": 2**20,
    "GiB": 2**30,
}
_QUANTITY = re.compile(r"\s*([0-9]+(?:\.[0-9]*)?(?:[eE][-+]?[0-9]+)?|\.[0-9]+)\s*([^\s0-9]*)\s*")


def base_unit(unit: str) -> tuple[float, str]:
    """Return the factor and the unit in which readings of a unit are kept: seconds, bytes, or the unit itself."""
    if unit in TIME_UNITS:
        return TIME_UNITS[unit], "s"
    return (float(SIZE_UNITS[unit]), "B") if unit in SIZE_UNITS else (1.0, "" if unit == "1" else unit)


def _split(text: object, kind: str, example: str) -> tuple[float, str]:
    """Return number and unit of a text such as "30 s", or say what would be right."""
    match = _QUANTITY.fullmatch(text) if isinstance(text, str) else None
    number = float(match[1]) if match else math.inf
    if match is None or not math.isfinite(number):
        raise UnitError(f'{_shown(text)} is no {kind}; write for example "{example}"')
    return number, match[2]


def _shown(value: object) -> str:
    if isinstance(value, str):
        return f'"{value}"'
    if isinstance(value, bool):
        return str(value).lower()
    return str(value)


def parse_duration(text: object) -> float:
    """Return seconds for a text such as "250 ms" or "5 min"; raise UnitError otherwise."""
    number, unit = _split(text, "duration", "30 s")
    if unit not in TIME_UNITS:
        raise UnitError(f'{_shown(text)} is no duration; write for example "30 s" (ns, us, ms, s, min, h)')
    return number * TIME_UNITS[unit]


def parse_share(text: object) -> float:
    """Return a share for a text such as "3 %" (0.03) or "0.03"; a bare number is a share from 0 to 1.

    Raises
    ------
    UnitError
        When the text is neither, or a bare number is above 1, where percent was surely meant.
    """
    if isinstance(text, int | float) and not isinstance(text, bool):
        number, unit = (float(text) if abs(text) <= 1 else math.inf), ""
    else:
        number, unit = _split(text, "share", "3 %")
    if unit == "%":
        return number / 100.0
    if unit or not 0 <= number <= 1:
        raise UnitError(f'{_shown(text)} is no share; write for example "3 %"')
    return number


def parse_size(text: object) -> int:
    """Return bytes for a text such as "64 MiB"; raise UnitError otherwise."""
    number, unit = _split(text, "size", "64 MiB")
    if unit not in SIZE_UNITS:
        raise UnitError(f'{_shown(text)} is no size; write for example "64 MiB" (B, kB, MB, GB, ...)')
    return round(number * SIZE_UNITS[unit])


def _digits(value: float, significant: int) -> str:
    """Write a number with so many significant digits, without an exponent."""
    if value == 0:
        return "0"
    places = significant - 1 - math.floor(math.log10(abs(value)))
    rounded = round(value, places)
    if rounded and math.floor(math.log10(abs(rounded))) > math.floor(math.log10(abs(value))):
        places -= 1  # 9.996 became 10.00
    return f"{rounded:.{max(places, 0)}f}"


def duration_text(seconds: float, significant: int = 3) -> str:
    """Write seconds as people do: "85.2 ms", "1.24 s", "3 min 20 s"."""
    if not math.isfinite(seconds):
        return "unknown"
    size = abs(seconds)
    if size >= 99.95:
        return _long_duration(seconds)
    for unit, factor in (("s", 1.0), ("ms", 1e-3), ("µs", 1e-6)):
        if size >= factor * 0.9995:
            return f"{_digits(seconds / factor, significant)} {unit}"
    return f"{_digits(seconds / 1e-9, significant)} ns" if seconds else "0 s"


def _long_duration(seconds: float) -> str:
    sign = "-" if seconds < 0 else ""
    minutes, rest = divmod(round(abs(seconds)), 60)
    hours, minutes = divmod(minutes, 60)
    parts = [f"{hours} h"] if hours else []
    parts += [f"{minutes} min"] if minutes else []
    parts += [f"{rest} s"] if rest and not hours else []
    return sign + " ".join(parts)


def size_text(size: float, significant: int = 3) -> str:
    """Write bytes as people do: "12.4 MiB"."""
    for unit in ("GiB", "MiB", "KiB"):
        if abs(size) >= SIZE_UNITS[unit] * 0.9995:
            return f"{_digits(size / SIZE_UNITS[unit], significant)} {unit}"
    return f"{size:.0f} B"


def share_text(share: float, significant: int = 2) -> str:
    """Write a share in percent: 0.034 becomes "3.4 %"."""
    return f"{_trimmed(_digits(share * 100.0, significant))} %"


def _trimmed(text: str) -> str:
    return text.rstrip("0").rstrip(".") if "." in text else text


def quantity_text(value: float, unit: str, significant: int = 3) -> str:
    """Write a reading with its unit: seconds, bytes, a share in percent, or a bare count."""
    if unit == "s":
        return duration_text(value, significant)
    if unit == "B":
        return size_text(value, significant)
    if unit == "share":
        return share_text(value, significant)
    number = f"{value:,.0f}" if abs(value) >= 1000 or value == int(value) else _digits(value, significant)
    return f"{number} {unit}" if unit not in ("", "1") else number


def moment_text(wall_s: float) -> str:
    """Return a time in seconds since 1970 as a minute in UTC: "2026-03-02 09:00 UTC"."""
    return datetime.fromtimestamp(wall_s, UTC).strftime("%Y-%m-%d %H:%M UTC")


def counted(count: int, word: str, several: str = "") -> str:
    """Write a number of things: "1 block", "2 blocks"; `several` where an s does not make the plural."""
    return f"{count} {word if count == 1 else several or word + 's'}"


def capital(text: str) -> str:
    """Begin a sentence with a capital, and leave the rest as it is: "CPU time" stays so."""
    return text[:1].upper() + text[1:]


def listed(names: Sequence[str], most: int) -> str:
    """Write the first names, and how many more there are: "north, south and 3 more"."""
    rest = len(names) - most
    return ", ".join(names[:most]) + (f" and {rest} more" if rest > 0 else "")


def either(words: Iterable[str]) -> str:
    """Write what one may choose from: "forest, distribution or blocks"."""
    *first, last = words
    return f"{', '.join(first)} or {last}" if first else last


def shortened(name: str, most: int) -> str:
    """Cut a name in its middle: names of one suite begin alike, and many end alike too."""
    if len(name) <= most:
        return name
    end = (most - 1) // 2
    return name[: most - 1 - end] + "…" + name[len(name) - end :]


def told_apart(names: Sequence[str], most: int) -> dict[str, str] | None:
    """Return short forms of names, of at most so many letters and never two alike; None where that cannot be.

    What all names share is cut, and what differs is kept; where that is too long it is cut in its middle.
    """
    distinct = list(dict.fromkeys(names))
    if all(len(name) <= most for name in distinct):
        return {name: name for name in distinct}
    if most < 3:
        return None
    forms = _without_shared(distinct, most)
    for _ in range(3):  # those that came out alike share more with each other than with the rest
        groups: dict[str, list[str]] = {}
        for name in distinct:
            groups.setdefault(forms[name], []).append(name)
        alike = [group for group in groups.values() if len(group) > 1]
        if not alike:
            return forms
        for group in alike:
            forms |= _without_shared(group, most)
    return None


def numbered(names: Sequence[str], most: int) -> dict[str, str]:
    """Return `told_apart`; where that cannot be, the beginnings of the names with their numbers in the list."""
    if forms := told_apart(names, most):
        return forms
    tags = {name: f"…{k}" for k, name in enumerate(dict.fromkeys(names), 1)}
    return {name: name[: max(0, most - len(tag))] + tag for name, tag in tags.items()}


def _without_shared(names: Sequence[str], most: int) -> dict[str, str]:
    """Return names with as much cut of what they share at both ends as it takes; each is cut only where it must be."""
    first = _alike(names)
    last = _alike([name[first:][::-1] for name in names]) if len(names) > 1 else 0
    whole_first, whole_last = _to_word(names[0][:first]), _to_word(names[0][len(names[0]) - last :][::-1])
    longest = max(map(len, names)) - whole_first - whole_last + (whole_first > 0) + (whole_last > 0)
    if longest <= most:  # then the words in which they differ stay whole
        first, last = whole_first, whole_last
    found = {}
    for name in names:
        if len(name) <= most:
            found[name] = name
            continue
        own = name[first : len(name) - last]
        room = most - len(own) - (first > 0) - (last > 0)
        if len(names) == 1 or room < 0:
            found[name] = shortened(own if len(names) > 1 else name, most)
            continue
        head = min(first, (room + 1) // 2) if last else room
        tail = min(last, room - head)
        head = min(first, room - tail)
        begin = name[:first] if head >= first else f"{name[:head]}…"
        end = name[len(name) - last :] if tail >= last else f"…{name[len(name) - tail :] if tail else ''}"
        found[name] = (begin if first else "") + own + (end if last else "")
    return found


def _alike(texts: Sequence[str]) -> int:
    """Return with how many letters all texts begin alike."""
    columns = enumerate(zip(*texts, strict=False))
    return next((k for k, letters in columns if len(set(letters)) > 1), min(map(len, texts)))


def _to_word(text: str) -> int:
    """Return how much of a text lies before its last unfinished word."""
    return next((k + 1 for k in range(len(text) - 1, -1, -1) if not text[k].isalnum()), 0)


def plain_text(text: str) -> str:
    """Return text without control characters, which could change what a terminal or a page shows."""
    return "".join(c if c.isprintable() or c == "\n" else "\N{REPLACEMENT CHARACTER}" for c in text)
