"""Gauge telegrams: GAUGE;minute;level in mm;wind in tenths;checksum."""

import re
from pathlib import Path

SOURCE = Path(__file__).resolve().parent.parent / "harbour" / "telegrams.txt"
SHAPE = re.compile(r"(?P<gauge>[A-Z]{3,4});(?P<minute>\d+);(?P<level>-?\d+);(?P<wind>\d+);(?P<check>\d+)")


def parse(line):
    """Return gauge, minute, level and wind, or None when the telegram is damaged."""
    match = SHAPE.fullmatch(line)
    if match is None:
        return None
    telegram = match.groupdict()
    if sum(telegram["level"].encode()) % 97 != int(telegram["check"]):
        return None
    return telegram["gauge"], int(telegram["minute"]), int(telegram["level"]) / 1000, int(telegram["wind"]) / 10


def summary(days):
    """Yield a line a gauge: how many telegrams, the highest level and the mean wind."""
    lines = SOURCE.read_text(encoding="ascii").splitlines()
    seen, highest, wind, damaged = {}, {}, {}, 0
    for _ in range(days):
        for line in lines:
            telegram = parse(line)
            if telegram is None:
                damaged += 1
                continue
            gauge, _, level, speed = telegram
            seen[gauge] = seen.get(gauge, 0) + 1
            highest[gauge] = max(level, highest.get(gauge, level))
            wind[gauge] = wind.get(gauge, 0.0) + speed
    for gauge in sorted(seen):
        yield f"{gauge}: {seen[gauge]} telegrams, highest {highest[gauge]:.3f} m, wind {wind[gauge] / seen[gauge]:.1f} m/s"
    yield f"{damaged} damaged"
