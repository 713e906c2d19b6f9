"""Whether a share of all trials stays within a limit: exact tests on how many did not."""

from __future__ import annotations

import math
from collections.abc import Callable

from bystander.stats.looks import Looks

__all__ = ["binomial_at_least", "binomial_at_most", "broken_p", "holds_p", "trials_for_ceiling"]

_USUAL = 40  # blocks


def binomial_at_most(count: int, n: int, share: float) -> float:
    """Return P(X <= count) of a binomial X of n trials; share in (0, 1), count from -1 to n."""
    return math.fsum(_masses(range(count + 1), n, share)) if count < n else 1.0


def binomial_at_least(count: int, n: int, share: float) -> float:
    """Return P(X >= count) of a binomial X of n trials; share in (0, 1), count from 0 to n + 1."""
    return math.fsum(_masses(range(count, n + 1), n, share)) if count > 0 else 1.0


def _masses(counts: range, n: int, share: float) -> list[float]:
    """Return the probabilities of each count, from logarithms, so that none is lost for many trials."""
    logs = math.log(share), math.log1p(-share)
    whole = math.lgamma(n + 1)
    return [
        math.exp(whole - math.lgamma(k + 1) - math.lgamma(n - k + 1) + k * logs[0] + (n - k) * logs[1])
        for k in counts
    ]  # fmt: skip


def holds_p(beyond: int, n: int, share: float) -> float:
    """Return the exact one-sided p that so few trials are beyond a limit within which less than `share` of all stay.

    Parameters
    ----------
    beyond, n : int
        Trials beyond the limit, of so many; independent of each other.
    share : float
        In (0, 1): of all trials that are to stay within it.
    """
    return min(1.0, binomial_at_most(beyond, n, 1 - share)) if n else 1.0


def broken_p(beyond: int, n: int, share: float) -> float:
    """Return the exact one-sided p that so many trials are beyond a limit within which `share` of all stay."""
    return min(1.0, binomial_at_least(beyond, n, 1 - share)) if n else 1.0


def trials_for_ceiling(share: float, risk: float, plan: Callable[[int], Looks]) -> int:
    """Return the least number of trials with which a ceiling could be shown to hold, none of them beyond it.

    59 for 95 % at a risk of 5 %, where all are looked at once; with looks the last of them has a part of the risk.

    Parameters
    ----------
    risk : float
        Of one ceiling: one-sided, in (0, 1).
    plan : callable
        The looks of so many trials.
    """
    n = _least(share, _last_level(plan(_USUAL), risk))
    while share**n > _last_level(plan(n), risk):
        n += 1
    return n


def _least(share: float, level: float) -> int:
    return max(1, math.ceil(math.log(level) / math.log(share) - 1e-9))


def _last_level(looks: Looks, risk: float) -> float:
    return looks.levels(min(1.0, 2 * risk))[-1] / 2
