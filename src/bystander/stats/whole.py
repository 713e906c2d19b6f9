"""The effect on a whole of many parts, with an interval that takes all of them together."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.stats.stopped import student_quantile

__all__ = ["SumsRatio", "comparable", "part_errors", "ratio_of_sums", "weighted_sum"]

Floats = NDArray[np.float64]


def part_errors(weighted_widths: Floats, nominal: Floats, error: float) -> Floats:
    """Return one minus the level at which the interval of each part is taken, shape (W,).

    Each part's own level allows for looks at that part alone. Over many parts of like weight early ends average out,
    and the level approaches that of the whole: a_i = error^(1 - 1/sqrt(m)) a_k^(1/sqrt(m)), where m, of parts that
    matter, is (sum h^2)^2 / sum h^4.

    Parameters
    ----------
    weighted_widths : ndarray, shape (W,)
        h: the width of each part's interval at its own level, times its share; finite.
    nominal : ndarray, shape (W,)
        a_k: the nominal error of the look at which the part ended, in (0, error].
    """
    squares = (weighted_widths / max(float(weighted_widths.max()), 1e-300)) ** 2
    total = float(np.sum(squares))
    share = math.sqrt(float(np.sum(squares**2))) / total if total > 0 else 1.0  # 1 / sqrt(m)
    return np.asarray(error ** (1 - share) * nominal**share)


def weighted_sum(shares: Floats, middle: Floats, low: Floats, high: Floats) -> tuple[float, float, float]:
    """Return the weighted sum of independent estimates, with its interval.

    Distances from estimate to end are squared, weighted and added for either end by itself, so that intervals need
    not be symmetric (Newcombe 1998; Zou and Donner 2008). All arrays have shape (W,).
    """
    value = float(shares @ middle)
    below, above = (math.sqrt(float(np.sum((shares * (end - middle)) ** 2))) for end in (low, high))
    return value, value - below, value + above


def comparable(weights: Floats) -> Floats:
    """Return weights of which the largest is from 1/2 to 1, in the same ratios: sums and squares of them are floats."""
    found: Floats = np.ldexp(weights, -np.frexp(weights.max())[1])
    return found


@dataclass(frozen=True)
class SumsRatio:
    """A ratio of plain sums, candidate over reference, with its interval."""

    ratio: float
    low: float
    high: float


def ratio_of_sums(
    weights: Floats, references: Sequence[Floats], candidates: Sequence[Floats], paired: Sequence[bool], error: float
) -> SumsRatio:
    """Return the ratio of weighted sums of means with its interval by the delta method, at level 1 - error.

    The degrees of freedom are those of Welch and Satterthwaite (1947) for the sum of the parts' variances.

    Parameters
    ----------
    weights : ndarray, shape (W,)
    references, candidates : sequence of ndarray
        The readings of each part, above zero; the i-th of both are of one block where they are paired. At least 2
        of each.
    """
    weights = comparable(weights)
    before = float(sum(w * float(one.mean()) for w, one in zip(weights, references, strict=True)))
    after = float(sum(w * float(one.mean()) for w, one in zip(weights, candidates, strict=True)))
    ratio = after / before
    total, freedom = 0.0, 0.0
    for weight, reference, candidate, pair in zip(weights, references, candidates, paired, strict=True):
        if pair:
            sides = [(float(np.var(candidate - ratio * reference, ddof=1)), candidate.size)]
        else:
            sides = [(float(np.var(candidate, ddof=1)), candidate.size)]
            sides += [(ratio**2 * float(np.var(reference, ddof=1)), reference.size)]
        for variance, size in sides:
            part = weight**2 * variance / size
            total += part
            freedom += part**2 / (size - 1)
    if not total > 0:
        return SumsRatio(ratio, ratio, ratio)
    reach = student_quantile(error, max(1, math.floor(total**2 / freedom))) * math.sqrt(total) / before
    return SumsRatio(ratio, ratio - reach, ratio + reach)
