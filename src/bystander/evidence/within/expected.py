"""Which share of a trial some places take, and between which ends it lies."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence

import numpy as np
from numpy.typing import NDArray

from bystander.design import Place, Stacks
from bystander.evidence.places import sums_of
from bystander.evidence.within.steps import OUTSIDE, called_from
from bystander.stats import student_quantile

__all__ = ["share_interval", "shares_of"]

Floats = NDArray[np.float64]


def shares_of(trials: Sequence[Stacks], view: str, wanted: Collection[Place]) -> tuple[Floats, Floats]:
    """Return, for each trial, seconds of some places with what they call, and of the whole; recursion counts once."""
    found = []
    for trial in trials:
        sums = sums_of([trial], view)
        parent, place, _ = sums.tree.columns()
        numbers = {at for at, one in enumerate(sums.tree.places) if one in wanted}
        inside = called_from(parent, place, numbers) != OUTSIDE
        found.append((float(sums.spent[inside].sum()) / 1e9, float(sums.spent.sum()) / 1e9))
    seconds = np.array(found, dtype=np.float64).reshape(-1, 2)
    return seconds[:, 0], seconds[:, 1]


def share_interval(seconds: Floats, whole: Floats, level: float) -> tuple[float, float, float]:
    """Return the mean share over trials with its interval by Student's t (1908); 0 to 1 for fewer than two trials.

    Parameters
    ----------
    seconds, whole : array, shape (n,)
        Of each trial; a trial without any time is left out.
    level : float
        The chance that the interval misses the mean share, in (0, 1).
    """
    used = whole > 0
    shares = seconds[used] / whole[used]
    if not shares.size:
        return 0.0, 0.0, 1.0
    mean = float(shares.mean())
    if shares.size < 2:
        return mean, 0.0, 1.0
    reach = student_quantile(level, shares.size - 1) * float(shares.std(ddof=1)) / math.sqrt(shares.size)
    return mean, max(0.0, mean - reach), min(1.0, mean + reach)
