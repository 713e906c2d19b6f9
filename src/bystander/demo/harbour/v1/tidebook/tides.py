"""Tide tables: the level is a sum of harmonic waves, whose strength follows the moon's node over 18.6 years."""

import math

from tidebook.ports import PORTS

STEP_MINUTES = 20
# Parts of the node's yearly course: how many times around, and how much.
FACTOR = [(1, -0.037), (2, 0.0009), (3, -0.0002), (4, 0.00006)]
SHIFT = [(1, 2.14), (2, -0.04), (3, 0.006), (4, -0.001)]


def node_factor(hour):
    """Return how strong the waves are at an hour."""
    node = math.radians(125.04 - 0.052954 * hour / 24)
    return 1.0 + sum(size * math.cos(times * node) for times, size in FACTOR)


def node_shift(hour):
    """Return how many degrees the waves come late at an hour."""
    node = math.radians(125.04 - 0.052954 * hour / 24)
    return sum(size * math.sin(times * node) for times, size in SHIFT)


def level(port, hour):
    """Return the level of the water in metres, at an hour counted from the start of the year."""
    mean, waves = PORTS[port]
    total = mean
    for amplitude, speed, phase in waves:
        midnight = hour // 24 * 24
        angle = speed * hour - phase - node_shift(midnight)
        total += node_factor(midnight) * amplitude * math.cos(math.radians(angle))
    return total


def table(port, days):
    """Yield a line a day: highest and lowest water and when they come."""
    steps = 24 * 60 // STEP_MINUTES
    for day in range(days):
        levels = [(level(port, day * 24 + step * STEP_MINUTES / 60), step) for step in range(steps)]
        high, at_high = max(levels)
        low, at_low = min(levels)
        yield f"{port} day {day + 1:3d}  high {high:5.2f} m at {clock(at_high)}  low {low:5.2f} m at {clock(at_low)}"


def clock(step):
    """Return a time of day."""
    minutes = step * STEP_MINUTES
    return f"{minutes // 60:02d}:{minutes % 60:02d}"
