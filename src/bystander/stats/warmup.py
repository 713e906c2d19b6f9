"""Where the samples of one process are warm: the first ones pay for what is done once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bystander.stats.sample import median

__all__ = ["warm_from"]

FLOOR = 3  # samples that are never decided on
_AHEAD = 3


def warm_from(samples: NDArray[np.float64]) -> int:
    """Return the first sample to decide on: from there on samples are like those of the second half.

    That is the first place, from 3 on, where the median of three samples lies within three robust standard
    deviations of the median of the second half; at most half of the samples are left out, and none of fewer
    than five.

    Parameters
    ----------
    samples : ndarray, shape (n,)
        In the order in which they were taken.
    """
    n = samples.size
    if n < FLOOR + 2:
        return 0
    late = samples[n // 2 :]
    centre = median(late)
    reach = 3 * 1.4826 * median(np.abs(late - centre))
    for first in range(FLOOR, n // 2):
        if abs(median(samples[first : first + _AHEAD]) - centre) <= reach:
            return first
    return n // 2
