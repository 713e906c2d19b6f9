"""Gauge telegrams: GAUGE;minute;level in mm;wind in tenths;checksum."""

from pathlib import Path

SOURCE = Path(__file__).resolve().parent.parent / "harbour" / "telegrams.txt"


def parse(line):
    """Return gauge, minute, level and wind, or None when the telegram is damaged."""
    fields = line.split(";")
    if len(fields) != 5 or sum(fields[2].encode()) % 97 != int(fields[4]):
        return None
    return fields[0], int(fields[1]), int(fields[2]) / 1000, int(fields[3]) / 10


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
