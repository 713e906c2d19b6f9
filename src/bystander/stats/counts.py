"""Exact tests for counts."""

from __future__ import annotations

import math

__all__ = ["fails_more_p", "fails_more_unpaired_p"]


def fails_more_p(only_candidate: int, only_reference: int) -> float:
    """Return the one-sided exact p that the candidate fails more often (McNemar 1947).

    Only blocks in which one of the two failed say anything; each was a fair coin if they fail alike.

    Parameters
    ----------
    only_candidate, only_reference : int
        Blocks in which the candidate alone, or the reference alone, failed; 0 or more.
    """
    if min(only_candidate, only_reference) < 0:
        raise ValueError("counts of blocks cannot be negative")
    n = only_candidate + only_reference
    ways = sum(math.comb(n, k) for k in range(only_candidate, n + 1))
    return float(ways / 2**n)


def fails_more_unpaired_p(candidate_failed: int, candidate: int, reference_failed: int, reference: int) -> float:
    """Return the one-sided exact p that the candidate fails more often, without blocks (Fisher 1935).

    Parameters
    ----------
    candidate_failed, reference_failed : int
        Failed trials of each arm, out of `candidate` and `reference` trials.
    """
    failed, everyone = candidate_failed + reference_failed, candidate + reference
    ways = sum(
        math.comb(candidate, k) * math.comb(reference, failed - k)
        for k in range(candidate_failed, min(failed, candidate) + 1)
    )
    return ways / math.comb(everyone, failed)
