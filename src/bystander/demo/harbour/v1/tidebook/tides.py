"""Tide tables: the level is a mean and a sum of harmonic waves."""

import math

from tidebook.ports import MEANS, WAVES

STEP_MINUTES = 20
STEPS = 24 * 60 // STEP_MINUTES


def waves_of(port):
    """Return the waves of a port, the highest first, so that small ones are added last."""
    waves = []
    for line in WAVES.splitlines():
        name, amplitude, speed, phase = line.split()
        if name == port:
            waves.append((float(amplitude), float(speed), float(phase)))
    return sorted(waves, reverse=True)


def level(port, hour):
    """Return the level of the water in metres, at an hour counted from the start of the year."""
    total = MEANS[port]
    for amplitude, speed, phase in waves_of(port):
        total += amplitude * math.cos(math.radians(speed * hour - phase))
    return total


def table(port, days):
    """Yield a line a day: highest and lowest water and when they come."""
    for day in range(days):
        levels = [(level(port, day * 24 + step * STEP_MINUTES / 60), step) for step in range(STEPS)]
        high, at_high = max(levels)
        low, at_low = min(levels)
        yield f"{port} day {day + 1:3d}  high {high:5.2f} m at {clock(at_high)}  low {low:5.2f} m at {clock(at_low)}"


def clock(step):
    """Return a time of day."""
    minutes = step * STEP_MINUTES
    return f"{minutes // 60:02d}:{minutes % 60:02d}"
