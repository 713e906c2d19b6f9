"""The gauge watch: each telegram is answered within a deadline, and goes into the log."""

import time
import zlib

from bystander_marks import deadline, interval, items
from tidebook.telegrams import SOURCE, parse

DEADLINE_S = 0.001
PAGE = 60


def entered(telegram, state):
    """Return the log's state after one more entry, which is sealed together with the whole page."""
    for line in range(PAGE):
        state = zlib.crc32(f"{telegram};{line};{state}".encode())
    return state


def watch(count):
    """Yield what the log came to."""
    lines = SOURCE.read_text(encoding="ascii").splitlines()
    deadline("answer", DEADLINE_S)
    state, high = 0, 0
    for number in range(count):
        start = time.perf_counter()
        line = lines[number % len(lines)]
        telegram = parse(line)
        high += telegram is not None and telegram[2] > 4.0
        state = entered(line, state)
        interval("answer", time.perf_counter() - start)
    items("telegrams", count)
    yield f"{count} telegrams answered, {high} of high water, log {state:08x}"
