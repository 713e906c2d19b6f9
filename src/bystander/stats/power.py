"""What a study could show, before it is run: simulated from a few trial differences of the same thing with itself."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import interval
from bystander.stats.signed_rank import walsh_contrasts

__all__ = ["POWER", "smallest_shown"]

Floats = NDArray[np.float64]
POWER = 0.8
_SIMULATIONS = 400
_MOST_BLOCKS = 64  # simulated; beyond, widths shrink with the square root of the blocks
_FEWEST = 3


def smallest_shown(differences: Floats, blocks: int, level: float, seed: int = 0) -> float:
    """Return the smallest shift that a study would show in 80 % of such studies.

    A shift is shown where the signed-rank interval of its blocks leaves out zero. As an interval moves
    with the shift, that is the 80 % quantile of how far the intervals of noise alone reach below zero.

    The noise is drawn from the differences with either sign, as a swap of the two would flip them,
    smoothed by a normal kernel that leaves their variance as it is (Silverman 1986, section 6.4.1). Few
    differences tell little of the spread, so each simulated study has a spread of its own, drawn as
    for a normal sample of known mean (k / chi-square with k degrees of freedom; Gelman et al. 2013,
    section 2.6).

    Parameters
    ----------
    differences : ndarray, shape (k,)
        Within blocks, between two trials of the same thing; logarithms of ratios, or amounts.
    blocks : int
        Of the study, at least 1.
    level : float
        The error at which a change of one row alone is shown: risk / comparisons, in (0, 1).

    Returns
    -------
    float
        On the scale of the differences; infinite where so many blocks cannot show anything, NaN for
        fewer than 3 finite differences.
    """
    finite = differences[np.isfinite(differences)]
    k = finite.size
    if k < _FEWEST:
        return float("nan")
    simulated = min(blocks, _MOST_BLOCKS)
    random = np.random.default_rng(seed)
    noise = _drawn(finite, (_SIMULATIONS, simulated), random)
    noise *= np.sqrt(k / random.chisquare(k, (_SIMULATIONS, 1)))
    low, _ = interval(walsh_contrasts(noise, noise), np.full(_SIMULATIONS, level))
    return float(np.quantile(-low, POWER, method="higher") * np.sqrt(simulated / blocks))


def _drawn(values: Floats, shape: tuple[int, int], random: np.random.Generator) -> Floats:
    """Draw from the values with either sign, smoothed, with the mean square of the values."""
    spread = np.sqrt(np.mean(values**2))
    width = 1.06 * spread * (2 * values.size) ** -0.2
    drawn = random.choice(values, shape) * random.choice((-1.0, 1.0), shape) + random.normal(0.0, 1.0, shape) * width
    return np.asarray(drawn * (spread / np.hypot(spread, width) if spread else 0.0))
