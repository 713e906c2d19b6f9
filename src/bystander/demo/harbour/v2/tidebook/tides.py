"""Tide tables: the level is a sum of harmonic waves, whose strength follows the moon's node over 18.6 years."""

import math

from tidebook.ports import PORTS

STEP_MINUTES = 20
STEPS = 24 * 60 // STEP_MINUTES
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


def day_levels(port, day):
    """Return the levels of one day: each wave is turned on from step to step, by one multiplication."""
    mean, waves = PORTS[port]
    factor, shift = node_factor(day * 24), node_shift(day * 24)
    levels = [mean] * STEPS
    for amplitude, speed, phase in waves:
        angle = math.radians(speed * day * 24 - phase - shift)
        wave = complex(math.cos(angle), math.sin(angle)) * (factor * amplitude)
        angle = math.radians(speed * STEP_MINUTES / 60)
        turn = complex(math.cos(angle), math.sin(angle))
        for step in range(STEPS):
            levels[step] += wave.real
            wave *= turn
    return levels


def table(port, days):
    """Yield a line a day: highest and lowest water and when they come."""
    for day in range(days):
        levels = day_levels(port, day)
        high, low = max(levels), min(levels)
        at_high = STEPS - 1 - levels[::-1].index(high)
        at_low = levels.index(low)
        yield f"{port} day {day + 1:3d}  high {high:5.2f} m at {clock(at_high)}  low {low:5.2f} m at {clock(at_low)}"


def clock(step):
    """Return a time of day."""
    minutes = step * STEP_MINUTES
    return f"{minutes // 60:02d}:{minutes % 60:02d}"
