"""The gauge watch: each telegram is answered within a deadline; the log is kept up fifty entries at a time."""

import time
import zlib

from bystander_marks import deadline, interval, items
from tidebook.telegrams import SOURCE, parse

DEADLINE_S = 0.001
PAGE = 60
TOGETHER = 50


def entered(telegram, state):
    """Return the log's state after one more entry, which is sealed together with the whole page."""
    for line in range(PAGE):
        state = zlib.crc32(f"{telegram};{line};{state}".encode())
    return state


def watch(count):
    """Yield what the log came to."""
    lines = SOURCE.read_text(encoding="ascii").splitlines()
    deadline("answer", DEADLINE_S)
    state, high, waiting = 0, 0, []
    for number in range(count):
        start = time.perf_counter()
        line = lines[number % len(lines)]
        telegram = parse(line)
        high += telegram is not None and telegram[2] > 4.0
        waiting.append(line)
        if len(waiting) == TOGETHER or number == count - 1:
            for one in waiting:
                state = entered(one, state)
            waiting = []
        interval("answer", time.perf_counter() - start)
    items("telegrams", count)
    yield f"{count} telegrams answered, {high} of high water, log {state:08x}"
