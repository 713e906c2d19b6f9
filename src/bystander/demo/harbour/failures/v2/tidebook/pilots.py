"""Pilots: the roster of their watches, and a call to the pilot boat."""

import random
import sys
import threading

WATCHES = ("morning", "afternoon", "night")
PILOTS = ("Okoro", "Lindqvist", "Marsh", "Tanaka", "Oyelaran")


class NoPilotError(Exception):
    """A watch has no pilot."""


def roster(days=400):
    """Return who has which watch; a pilot who is off is drawn, and only for one of four somebody stands in."""
    off = random.SystemRandom().randrange(4)
    lines = [f"day {day:03d} {watch}: {PILOTS[(3 * day + i) % len(PILOTS)]}"
             for day in range(days) for i, watch in enumerate(WATCHES)]
    if off:
        raise NoPilotError(f"day {days - 1} {WATCHES[-1]}: {PILOTS[off]} is off and nobody stands in")
    return lines


def call():
    """Return what the pilot boat answers: it is waited for, on a channel that nobody listens to."""
    answered = threading.Event()
    answered.wait()
    return ["pilot boat: under way"]


if __name__ == "__main__":
    print("\n".join({"roster": roster, "call": call}[sys.argv[1]]()))
