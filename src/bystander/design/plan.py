"""The plan: who runs when, decided by the seed of a run alone.

Every block draws its own order from digests of (seed, workload key, block, name of the arm). Leaving workloads or arms
out, adding arms while a record runs, stopping some early or spreading blocks over machines therefore moves nobody
else, and a block that is run again keeps its order.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from bystander.design.studies.words import Condition

__all__ = [
    "DEPTHS",
    "ORDERS",
    "PlannedBlock",
    "PlannedTrial",
    "block_conditions",
    "block_order",
    "plan_rounds",
    "shuffled",
]

DEPTHS = 4  # folders at most
_RANGES = {Condition.HASH_SEED: 2**32, Condition.ENVIRONMENT_SIZE: 4096, Condition.FOLDER_DEPTH: DEPTHS}


@dataclass(frozen=True)
class PlannedBlock:
    """One workload under some arms, back to back; numbers count from 0.

    Attributes
    ----------
    workload : int
        Position in the study.
    number : int
        Which block of that workload.
    order : tuple of int
        Positions of the arms, in the order in which they run; any subset of the study's.
    round : int
        In which round it runs: of the workload with the most blocks each block is one.
    """

    workload: int
    number: int
    order: tuple[int, ...]
    round: int = 0


@dataclass(frozen=True)
class PlannedTrial:
    """Where a trial stands: a block, an arm of it, and which it is in the block's order, from 0."""

    block: PlannedBlock
    arm: int
    order: int

    @property
    def last(self) -> bool:
        """Whether its block is whole with it."""
        return self.order == len(self.block.order) - 1


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


def block_order(seed: int, workload_key: str, block: int, arms: Sequence[str]) -> tuple[int, ...]:
    """Return the order of the arms in one block, each order equally likely over seeds.

    Every arm has a digest of its own, so that the order of any two of them is the same whoever else runs.
    """
    ranks = [hashlib.sha256(f"block|{seed}|{workload_key}|{block}|{arm}".encode()).digest() for arm in arms]
    return tuple(sorted(range(len(arms)), key=ranks.__getitem__))


def _earlier_order(seed: int, workload_key: str, block: int, arms: Sequence[str]) -> tuple[int, ...]:
    """Return the order that runs of before had: a permutation of all arms by one key."""
    return shuffled(len(arms), f"block|{seed}|{workload_key}|{block}")


# How the arms of a block are ordered, by the word that a run keeps.
ORDERS: dict[str, Callable[[int, str, int, Sequence[str]], tuple[int, ...]]] = {
    "digest": block_order,
    "permutation": _earlier_order,
}


def block_conditions(seed: int, workload_key: str, block: int, vary: Sequence[Condition]) -> dict[str, int]:
    """Return the conditions of one block, the same for all its arms, each drawn evenly from its range.

    That such conditions alone can pass for a change was shown by Mytkowicz and others (2009).
    Hash seeds are from 0 to 2^32 - 1, sizes in bytes from 0 to 4095 (a page, so that the stack begins at
    any place in it), depths from 0 to 3 folders.
    """
    return {
        str(name): next(_integers(f"vary|{name}|{seed}|{workload_key}|{block}")) % _RANGES[Condition(name)]
        for name in vary
    }


def plan_rounds(
    seed: int, workload_keys: Sequence[str], arms: Sequence[str], blocks: int | Sequence[int], order: str = "digest"
) -> Iterator[PlannedBlock]:
    """Yield all blocks, round by round; the workloads of a round come in an order of its own.

    A workload of fewer blocks than others has them spread evenly over all rounds, so that what drifts meets all alike.

    Parameters
    ----------
    blocks : int or sequence of int
        Of each workload.
    arms : sequence of str
        Names, by which they are ordered; positions are those in this sequence.
    order : str
        One of `ORDERS`.
    """
    ordered = ORDERS[order]
    counts = [blocks] * len(workload_keys) if isinstance(blocks, int) else list(blocks)
    rounds = max(counts, default=0)
    number_in = [{(2 * n + 1) * rounds // (2 * count): n for n in range(count)} for count in counts]
    for at in range(rounds):
        ranks = [hashlib.sha256(f"round|{seed}|{at}|{key}".encode()).digest() for key in workload_keys]
        for workload in sorted(range(len(workload_keys)), key=ranks.__getitem__):
            if (number := number_in[workload].get(at)) is not None:
                yield PlannedBlock(workload, number, ordered(seed, workload_keys[workload], number, arms), at)
