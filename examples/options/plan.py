"""Plans berths for ships: every ship looks at every berth, or remembers what it saw; by some workers at once."""

import argparse
import hashlib
import os
from concurrent.futures import ProcessPoolExecutor


def looked_at(berth, draught, known):
    """Return how well a berth suits a draught."""
    if known is not None and (berth, draught) in known:
        return known[berth, draught]
    value = 0
    for round_ in range(12):
        value = int.from_bytes(hashlib.sha256(f"{berth} {draught} {value} {round_}".encode()).digest()[:4], "big")
    if known is not None:
        known[berth, draught] = value
    return value


def plan(ships, remember):
    """Return the best berth of each ship."""
    known = {} if remember else None
    return [max(range(12), key=lambda berth: looked_at(berth, ship % 40, known)) for ship in ships]


def main():
    """Do what the name of this file says."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--ships", type=int, default=400)
    parser.add_argument("--workers", type=int, default=1)
    parser.add_argument("--remember", choices=["yes", "no"], default="no")
    asked = parser.parse_args()
    remember = asked.remember == "yes" or os.environ.get("PLAN_REMEMBER") == "1"
    parts = [range(i, asked.ships, asked.workers) for i in range(asked.workers)]
    if asked.workers == 1:
        found = [plan(parts[0], remember)]
    else:
        with ProcessPoolExecutor(asked.workers) as pool:
            found = list(pool.map(plan, parts, [remember] * len(parts)))
    berths = {ship: berth for part, row in zip(parts, found) for ship, berth in zip(part, row)}
    print(sum((ship + 1) * berth for ship, berth in berths.items()))


if __name__ == "__main__":
    main()
