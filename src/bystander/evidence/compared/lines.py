"""Lines of a file that is in both arms: which line of the candidate is which of the reference."""

from __future__ import annotations

from collections.abc import Sequence
from difflib import SequenceMatcher

from bystander.design import LineMap

__all__ = ["line_after", "line_blocks", "mapped"]

_MOST_LINES = 1500  # that differ in the middle of a file: beyond, none is matched there

Blocks = tuple[tuple[int, int, int], ...]


def line_blocks(before: str, after: str) -> Blocks:
    """Return runs of lines that are alike: the first of each, from 1 on, before and after, and how many they are."""
    a, b = before.splitlines(), after.splitlines()
    front = _alike(a, b)
    back = _alike(a[front:][::-1], b[front:][::-1])
    middle_a, middle_b = a[front : len(a) - back], b[front : len(b) - back]
    blocks = [(1, 1, front)]
    if max(len(middle_a), len(middle_b)) <= _MOST_LINES:
        found = SequenceMatcher(None, middle_a, middle_b, autojunk=False).get_matching_blocks()
        blocks += [(front + one.a + 1, front + one.b + 1, one.size) for one in found]
    blocks.append((len(a) - back + 1, len(b) - back + 1, back))
    return tuple(block for block in blocks if block[2])


def line_after(blocks: Blocks, line: int) -> int:
    """Return the candidate's line of one of the reference, 0 where there is none."""
    for first, to, count in blocks:
        if first <= line < first + count:
            return to + line - first
    return 0


def _alike(a: Sequence[str], b: Sequence[str]) -> int:
    """Return how many lines at the beginning are alike."""
    count = 0
    for one, other in zip(a, b, strict=False):
        if one != other:
            break
        count += 1
    return count


def mapped(lines: Sequence[LineMap], before: str, after: str) -> Blocks | None:
    """Return the blocks of two files, None where they were not held against each other."""
    return next((one.blocks for one in lines if (one.before, one.after) == (before, after)), None)
