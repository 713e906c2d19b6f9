"""Pilots: the roster of their watches, and a call to the pilot boat."""

import sys
import time

WATCHES = ("morning", "afternoon", "night")
PILOTS = ("Okoro", "Lindqvist", "Marsh", "Tanaka", "Oyelaran")


def roster(days=400):
    """Return who has which watch."""
    return [f"day {day:03d} {watch}: {PILOTS[(3 * day + i) % len(PILOTS)]}"
            for day in range(days) for i, watch in enumerate(WATCHES)]


def call():
    """Return what the pilot boat answers."""
    time.sleep(0.01)
    return ["pilot boat: under way"]


if __name__ == "__main__":
    print("\n".join({"roster": roster, "call": call}[sys.argv[1]]()))
