"""Moorings: how much water stands under each ship at low water, from the survey's file of depths."""

from pathlib import Path

from bystander_marks import items
from tidebook.berths import BERTHS, fleet

SOURCE = Path(__file__).resolve().parent.parent / "harbour" / "depths.txt"


def depths():
    """Return the depth of each quay in metres, less what the survey is not sure of."""
    found = {}
    with open(SOURCE, encoding="ascii") as survey:
        for line in survey:
            quay, number, depth, unsure = line.split()
            found[f"{quay} {number}"] = float(depth) - float(unsure)
    return found


def moorings(ships):
    """Yield a line for each ship that would touch the ground, and how many lie well."""
    known, touching = depths(), 0
    for number, (ship, _, draught, _, _) in enumerate(fleet(ships)):
        quay = BERTHS[number % len(BERTHS)][0]
        water = known[quay] - draught
        if water < 0.3:
            touching += 1
            if touching <= 5:
                yield f"{ship} at {quay}: {water:.2f} m under the keel"
    items("berths", ships)
    yield f"{ships - touching} of {ships} lie well"
