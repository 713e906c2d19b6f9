"""The plan: who runs when, decided by the seed alone.

Every block draws its own order from a digest of (seed, workload key, block). Leaving workloads
out, stopping some early or spreading blocks over machines therefore shifts nothing else, and a
block that is run again keeps its order.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

__all__ = ["DEPTHS", "PlannedBlock", "block_conditions", "block_order", "plan_rounds", "shuffled"]

DEPTHS = 4  # folders at most
_RANGES = {"hash seed": 2**32, "environment size": 4096, "folder depth": DEPTHS}


@dataclass(frozen=True)
class PlannedBlock:
    """One workload under every arm, back to back; numbers count from 0.

    Attributes
    ----------
    workload : int
        Position in the study.
    number : int
        Which block of that workload; also the round.
    order : tuple of int
        Positions of the arms, in the order in which they run.
    """

    workload: int
    number: int
    order: tuple[int, ...]


def _integers(key: str) -> Iterator[int]:
    """Yield 64-bit integers from SHA-256 of the key and a counter."""
    counter = 0
    while True:
        digest = hashlib.sha256(f"{key}|{counter}".encode()).digest()
        yield from (int.from_bytes(digest[i : i + 8], "big") for i in range(0, 32, 8))
        counter += 1


def shuffled(count: int, key: str) -> tuple[int, ...]:
    """Return a permutation of range(count), each equally likely over keys (Fisher and Yates 1938)."""
    items, source = list(range(count)), _integers(key)
    for last in range(count - 1, 0, -1):
        choices = last + 1
        fair = (1 << 64) // choices * choices  # beyond it some choices would be likelier
        pick = next(value for value in source if value < fair) % choices
        items[last], items[pick] = items[pick], items[last]
    return tuple(items)


def block_order(seed: int, workload_key: str, block: int, arms: int) -> tuple[int, ...]:
    """Return the order of the arms in one block."""
    return shuffled(arms, f"block|{seed}|{workload_key}|{block}")


def block_conditions(seed: int, workload_key: str, block: int, vary: Sequence[str]) -> dict[str, int]:
    """Return the conditions of one block, the same for all its arms, each drawn evenly from its range.

    That such conditions alone can pass for a change was shown by Mytkowicz and others (2009).
    Hash seeds are from 0 to 2^32 - 1, sizes in bytes from 0 to 4095 (a page, so that the stack begins at
    any place in it), depths from 0 to 3 folders.
    """
    return {name: next(_integers(f"vary|{name}|{seed}|{workload_key}|{block}")) % _RANGES[name] for name in vary}


def plan_rounds(seed: int, workload_keys: Sequence[str], arms: int, blocks: int) -> Iterator[PlannedBlock]:
    """Yield all blocks, round by round; the workloads of a round come in an order of its own."""
    for number in range(blocks):
        ranks = [hashlib.sha256(f"round|{seed}|{number}|{key}".encode()).digest() for key in workload_keys]
        for workload in sorted(range(len(workload_keys)), key=ranks.__getitem__):
            yield PlannedBlock(workload, number, block_order(seed, workload_keys[workload], number, arms))
