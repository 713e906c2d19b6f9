"""What a study could show: before it is run, from a few differences of the same thing with itself; or after one."""

from __future__ import annotations

import math
from collections.abc import Callable
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from bystander.stats.contrasts import Contrasts
from bystander.stats.looks import Looks
from bystander.stats.null import signed_rank_null
from bystander.stats.signed_rank import blocks_needed, pairs_within

__all__ = ["POWER", "blocks_for_shift", "blocks_to_show", "smallest_shown"]

Floats = NDArray[np.float64]
POWER = 0.8
_SIMULATIONS = 400
_MOST_BLOCKS = 40  # simulated; beyond, widths shrink with the square root of the blocks
_FEWEST = 3
_STEPS = 3
_DOUBT = 4.0
_BEYOND = 1_000_000


def smallest_shown(differences: Floats, looks: Looks, level: float, margin: float = 0.0, seed: int = 0) -> float:
    """Return the smallest shift that a study would show in 80 % of such studies.

    A shift is shown at the first look at which the signed-rank interval leaves out zero and the estimate lies beyond
    the margin, or at the last look without regard to the margin. As estimate and interval move with the shift, that
    is the 80 % quantile of the least shift that any of a study's looks would show.

    The noise is drawn from the differences with either sign, as a swap of the two would flip them,
    smoothed by a normal kernel that leaves their variance as it is (Silverman 1986, section 6.4.1). Few
    differences tell little of the spread, so each simulated study has a spread of its own, drawn as
    for a normal sample of known mean (k / chi-square with k degrees of freedom; Gelman et al. 2013,
    section 2.6).

    Parameters
    ----------
    differences : ndarray, shape (k,)
        Within blocks, between two trials of the same thing; logarithms of ratios, or amounts.
    looks : Looks
        Of the study; beyond 40 blocks they are simulated in proportion, and widths shrink with the square root.
    level : float
        The error at which a change of one row alone is shown: risk / comparisons, in (0, 1).
    margin : float
        On the scale of the differences.

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
    scale = min(1.0, _MOST_BLOCKS / looks.most)
    simulated = Looks(tuple(sorted({max(1, round(n * scale)) for n in looks.blocks})), looks.strict)
    random = np.random.default_rng(seed)
    noise = _drawn(finite, (_SIMULATIONS, simulated.most), random)
    noise *= np.sqrt(k / random.chisquare(k, (_SIMULATIONS, 1)))
    least = np.full(_SIMULATIONS, np.inf)
    shrunk = math.sqrt(scale)
    for look, blocks in enumerate(simulated.blocks):
        estimate, low = _estimate_and_low(noise[:, :blocks], float(simulated.nominal(look, np.array(level))))
        last = blocks == simulated.most
        least = np.minimum(least, np.maximum(-low * shrunk, -np.inf if last else margin - estimate * shrunk))
    return float(np.quantile(least, POWER, method="higher"))


def _estimate_and_low(noise: Floats, level: float) -> tuple[Floats, Floats]:
    """Return what `examine` and `interval` do, of many rows, without sorting all of their averages."""
    blocks = noise.shape[1]
    null, (first, second) = signed_rank_null(blocks), pairs_within(blocks)
    cut = null.largest(level / 2)
    middle = ((null.total - 1) // 2, null.total // 2)
    averages = np.partition((noise[:, first] + noise[:, second]) / 2, sorted({max(cut, 0), *middle}), axis=1)
    low = averages[:, cut] if cut >= 0 else np.full(noise.shape[0], -np.inf)
    return averages[:, middle].mean(axis=1), low


def blocks_for_shift(
    differences: Floats, shift: float, level: float, margin: float, looks: Callable[[int], Looks], seed: int = 0
) -> float:
    """Return the most blocks of a study that shows the shift in 80 % of such studies; arguments as above.

    The smallest shift falls with about the square root of the blocks: a few steps of that rule find them.

    Parameters
    ----------
    looks : callable
        From most blocks to looks.

    Returns
    -------
    float
        A whole number; infinite beyond a million, NaN where the noise is not known.
    """
    blocks = max(_MOST_BLOCKS, blocks_needed(1, level))
    for _ in range(_STEPS):
        smallest = smallest_shown(differences, looks(blocks), level, margin, seed)
        if math.isnan(smallest):
            return float("nan")
        blocks = max(blocks_needed(1, level), math.ceil(blocks * (smallest / shift) ** 2))
        if blocks > _BEYOND:
            return float("inf")
    return float(blocks)


def _drawn(values: Floats, shape: tuple[int, int], random: np.random.Generator) -> Floats:
    """Draw from the values with either sign, smoothed, with the mean square of the values."""
    spread = np.sqrt(np.mean(values**2))
    width = 1.06 * spread * (2 * values.size) ** -0.2
    drawn = random.choice(values, shape) * random.choice((-1.0, 1.0), shape) + random.normal(0.0, 1.0, shape) * width
    return np.asarray(drawn * (spread / np.hypot(spread, width) if spread else 0.0))


def blocks_to_show(contrasts: Contrasts, estimate: Floats, shift: Floats, level: Floats | float) -> Floats:
    """Return how many blocks with noise like that of these rows show a shift in 80 % of studies (Noether 1987).

    q is the share of pairwise averages that a shift leaves above zero, read from the rows' own averages about their
    estimate, to both sides. For small shifts Noether's n = z^2 / (3 (q - 1/2)^2), z = z_level/2 + z_power. For larger
    ones q comes close to 1 and says too little, so it is taken through the normal distribution, for which
    q = Phi(sqrt(2) d): n = (pi / 3) z^2 / d^2, which is the same where q is close to 1/2. Few blocks know their noise
    badly, and those that think it small promise too much: k blocks ask for 1 + 4 / k times as many, by simulation.

    Parameters
    ----------
    contrasts : Contrasts
        Averages of pairs of block differences, R rows.
    estimate, shift : ndarray, shape (R,)
    level : ndarray, shape (R,), or float
        Two-sided, in (0, 1).

    Returns
    -------
    ndarray, shape (R,)
        Infinite where the shift is 0 or lost in the noise, NaN without an estimate.
    """
    normal, total, centre = NormalDist(), contrasts.null.total, np.nan_to_num(estimate)
    blocks = (math.sqrt(8 * total + 1) - 1) / 2
    beyond = (contrasts.count_at_most((centre - shift)[:, None]) + contrasts.count_at_least((centre + shift)[:, None]))[
        :, 0
    ]
    above = np.clip(1 - beyond / (2 * total), 0.5, 1 - 0.5 / total)
    effect = np.array([normal.inv_cdf(q) for q in above.tolist()]) / math.sqrt(2)
    quantiles = np.array(
        [-normal.inv_cdf(one / 2) for one in np.broadcast_to(level, estimate.shape).tolist()]
    ) + normal.inv_cdf(POWER)
    with np.errstate(divide="ignore"):
        needed = math.pi / 3 * (quantiles / effect) ** 2 * (1 + _DOUBT / blocks)
    return np.where(np.isnan(estimate), np.nan, needed)
