"""The methods agree with published and independently computed values."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
import scipy.stats
from hypothesis import given
from hypothesis import strategies as st

from bystander.stats import (
    benjamini_hochberg,
    blocks_needed,
    examine,
    fails_more_p,
    fails_more_unpaired_p,
    holm,
    interval,
    intervals,
    median,
    pairwise_contrasts,
    rank_sum_null,
    signed_rank_null,
    summarise,
    summarise_rows,
    walsh_contrasts,
)
from bystander.stats.signed_rank import WRITTEN_OUT

samples = st.lists(st.floats(-5, 5).map(lambda x: round(x, 2)), min_size=2, max_size=24)


def paired(values: np.ndarray) -> tuple[float, float, float, float]:
    """Return estimate, p and the 95 % interval of one row of differences."""
    contrasts = walsh_contrasts(values[None, :], values[None, :])
    seen = examine(contrasts, np.array([0.1]))
    low, high = interval(contrasts, np.array([0.05]))
    return float(seen.estimate[0]), float(seen.p[0]), float(low[0]), float(high[0])


@pytest.mark.parametrize("n", [3, 6, 10, 25, 50, 120, 299, 400])
def test_signed_rank_p_equals_scipys_exact_test_without_ties(n: int) -> None:
    """Without ties p is SciPy's exact p to 1e-12, also where contrasts are counted instead of written out."""
    rng = np.random.default_rng(n)
    for shift in (0.0, 0.3):
        d = rng.normal(shift, 1, n)

        assert paired(d)[1] == pytest.approx(scipy.stats.wilcoxon(d, method="exact").pvalue, abs=1e-12)


@pytest.mark.parametrize(("n", "k"), [(2, 3), (7, 5), (12, 40), (60, 90), (5, 2000)])
def test_rank_sum_p_equals_scipys_exact_test_without_ties(n: int, k: int) -> None:
    """The unpaired p is the exact Mann-Whitney p."""
    rng = np.random.default_rng(n * k)
    x, y = rng.normal(size=n), rng.normal(0.2, 1, size=k)
    seen = examine(pairwise_contrasts((x, x), (y, y)), np.array([0.1]))

    assert seen.p[0] == pytest.approx(scipy.stats.mannwhitneyu(y, x, method="exact").pvalue, abs=1e-12)


def test_signed_rank_distribution_by_enumeration() -> None:
    """For five blocks the distribution is that of all 32 choices of signs."""
    sums = [sum(ranks) for k in range(6) for ranks in itertools.combinations(range(1, 6), k)]
    table = signed_rank_null(5).table

    assert table is not None
    assert table.tolist() == pytest.approx([sum(s <= w for s in sums) / 32 for w in range(16)], abs=1e-15)


def test_published_critical_values_of_the_signed_rank_test() -> None:
    """Critical values at 5 % two-sided are those of Wilcoxon's table: n = 6: 0, 10: 8, 20: 52, 25: 89."""
    assert [signed_rank_null(n).largest(0.025) for n in (6, 10, 20, 25)] == [0, 8, 52, 89]


def test_published_critical_values_of_the_rank_sum_test() -> None:
    """Critical values of U at 5 % two-sided: 5 and 5: 2, 8 and 10: 17, 20 and 20: 127."""
    assert [rank_sum_null(*sizes).largest(0.025) for sizes in ((5, 5), (8, 10), (20, 20))] == [2, 17, 127]


def test_the_normal_tail_continues_the_exact_one() -> None:
    """Where the exact distribution ends, the approximation is within 1e-4 of it."""
    exact, n = signed_rank_null(1000), 1000
    from bystander.stats.null import Null

    near = Null(exact.total, None, exact.mean, exact.spread)
    w = np.linspace(exact.mean - 4 * exact.spread, exact.mean, 40).astype(int)

    assert n * (n + 1) // 2 == exact.total
    assert np.abs(exact.at_most(w) - near.at_most(w)).max() < 1e-4


@given(samples)
def test_p_and_the_closed_interval_always_agree(values: list[float]) -> None:
    """p is at most 5 % exactly when the 95 % interval leaves out 0, with ties and zeros too."""
    _, p, low, high = paired(np.array(values))

    assert (p <= 0.05) == (low > 0 or high < 0)


@given(samples)
def test_the_estimate_is_the_median_of_all_averages(values: list[float]) -> None:
    """Hodges and Lehmann's estimate, computed in the plain way."""
    d = np.array(values)
    averages = [(a + b) / 2 for i, a in enumerate(d) for b in d[i:]]

    assert paired(d)[0] == pytest.approx(np.median(averages), abs=1e-12)


@given(samples)
def test_swapping_the_arms_mirrors_everything(values: list[float]) -> None:
    """Negated differences give the negated estimate and interval, and the same p."""
    d = np.array(values)
    estimate, p, low, high = paired(d)
    back = paired(-d)

    assert back == pytest.approx((-estimate, p, -high, -low))


def test_large_samples_are_selected_to_the_same_numbers() -> None:
    """Counting contrasts gives what writing them out gives."""
    rng = np.random.default_rng(5)
    d = rng.normal(0.02, 0.3, WRITTEN_OUT + 1)
    first, second = np.triu_indices(d.size)
    averages = np.sort((d[first] + d[second]) / 2)
    estimate, _, low, high = paired(d)
    cut = signed_rank_null(d.size).largest(0.025)

    assert estimate == pytest.approx(np.median(averages), abs=1e-11)
    assert (low, high) == pytest.approx((averages[cut], averages[averages.size - 1 - cut]), abs=1e-11)


def test_failed_trials_widen_the_interval_on_their_side() -> None:
    """A block of which only a lower bound is known takes the upper end with it, and never the lower one."""
    low = np.full((1, 12), 0.2) + np.linspace(0, 0.011, 12)
    high = low.copy()
    high[0, :3] = np.inf
    seen = examine(walsh_contrasts(low, high), np.array([0.1]))
    ends = interval(walsh_contrasts(low, high), np.array([0.05]))

    assert seen.p[0] == 2 * 0.5**12
    assert ends[0][0] == pytest.approx(0.2, abs=0.01)
    assert ends[1][0] == np.inf
    assert seen.leans[0] == 1


def test_dropping_failures_would_hide_a_change() -> None:
    """With a third of the blocks unknown on the upper side, equivalence is not shown, though the rest is equal."""
    rng = np.random.default_rng(3)
    low = rng.normal(0, 0.001, (1, 30))
    high = low.copy()
    high[0, ::3] = np.inf
    kept = examine(walsh_contrasts(low, high), np.array([0.05])).e[0]
    dropped = examine(walsh_contrasts(low[:, 1::3], low[:, 1::3]), np.array([0.05])).e[0]

    assert dropped < 0.001
    assert kept > 0.05


def test_equivalence_is_two_one_sided_tests() -> None:
    """e is the larger p of the two one-sided tests against the margin."""
    d = np.random.default_rng(8).normal(0.01, 0.02, 20)
    e = examine(walsh_contrasts(d[None, :], d[None, :]), np.array([0.05])).e[0]
    sides = [
        scipy.stats.wilcoxon(d + 0.05, alternative="greater", method="exact").pvalue,
        scipy.stats.wilcoxon(d - 0.05, alternative="less", method="exact").pvalue,
    ]

    assert e == pytest.approx(max(sides), abs=1e-12)


def test_equal_readings_are_the_same_and_no_change() -> None:
    """Differences that are all zero have p 1, and the smallest possible e, also at a margin of zero."""
    zero = np.zeros((1, 9))
    for margin in (0.03, 0.0):
        seen = examine(walsh_contrasts(zero, zero), np.array([margin]))

        assert (seen.p[0], seen.estimate[0], seen.e[0]) == (1.0, 0.0, 0.5**9)


def test_one_block_says_nothing() -> None:
    """A single block has an unbounded interval and p 1."""
    assert paired(np.array([0.4])) == (0.4, 1.0, -math.inf, math.inf)
    with pytest.raises(ValueError, match="one at least"):
        walsh_contrasts(np.empty((1, 0)), np.empty((1, 0)))


@given(st.lists(st.floats(0, 1), min_size=1, max_size=30))
def test_adjustments_agree_with_scipy_and_with_their_definition(p: list[float]) -> None:
    """Benjamini and Hochberg as in SciPy; Holm by stepping down."""
    values = np.array(p)
    order = np.argsort(values, kind="stable")
    stepped, most = np.empty(values.size), 0.0
    for i, at in enumerate(order):
        most = max(most, values[at] * (values.size - i))
        stepped[at] = min(1.0, most)

    assert benjamini_hochberg(values) == pytest.approx(scipy.stats.false_discovery_control(values), abs=1e-12)
    assert holm(values) == pytest.approx(stepped, abs=1e-12)


def test_a_larger_family_pays_for_rows_that_are_not_shown() -> None:
    """Rows left out count as p = 1."""
    p = np.array([0.01, 0.04])

    assert benjamini_hochberg(p, 10).tolist() == pytest.approx([0.1, 0.2])
    assert holm(p, 10).tolist() == pytest.approx([0.1, 0.36])
    with pytest.raises(ValueError, match="a family of 1"):
        holm(p, 1)


def test_fails_more_is_an_exact_test() -> None:
    """McNemar's and Fisher's one-sided tests as SciPy has them."""
    assert fails_more_p(9, 1) == pytest.approx(scipy.stats.binomtest(9, 10, alternative="greater").pvalue)
    assert fails_more_p(0, 0) == 1.0
    table = [[7, 13], [1, 19]]
    assert fails_more_unpaired_p(7, 20, 1, 20) == pytest.approx(
        scipy.stats.fisher_exact(table, alternative="greater").pvalue
    )


def test_the_fewest_blocks_that_could_show_a_change() -> None:
    """One comparison at 5 % takes 6 blocks, seven take 9: with one fewer no outcome is small enough."""
    assert [blocks_needed(m, 0.05) for m in (1, 7, 20)] == [6, 9, 10]
    for m, n in ((1, 6), (7, 9), (20, 10)):
        assert 2.0 ** (1 - n) <= 0.05 / m < 2.0 ** (2 - n)


def test_one_sample_is_summarised() -> None:
    """Quantiles as NumPy has them; the median's interval by order statistics: for n = 10 the 2nd and 9th, 97.9 %."""
    values = np.array([3.0, 1, 4, 1.5, 9, 2.6, 5.3, 5.8, 9.7, 9.3])
    s = summarise(values)
    ordered = np.sort(values)

    assert (s.median_low, s.median_high) == (ordered[1], ordered[8])
    assert s.confidence == pytest.approx(1 - 2 * scipy.stats.binom.cdf(1, 10, 0.5))
    assert s.spread == pytest.approx(scipy.stats.median_abs_deviation(values) * 1.4826)
    assert summarise(np.array([2.0])).median_high == math.inf
    with pytest.raises(ValueError, match="all finite"):
        summarise(np.array([1.0, np.nan]))


@given(st.integers(1, 40), st.integers(1, 5), st.integers(0, 99))
def test_samples_are_summarised_together_as_one_by_one(n: int, rows: int, seed: int) -> None:
    """Quantiles, median and spread of each row are NumPy's and SciPy's."""
    values = np.random.default_rng(seed).lognormal(0, 1, (rows, n))
    for row, s in zip(values, summarise_rows(values), strict=True):
        expected = np.quantile(row, [0, 0.25, 0.5, 0.75, 1])

        assert [s.least, s.first_quartile, s.median, s.third_quartile, s.most] == pytest.approx(expected, rel=1e-12)
        assert s.spread == pytest.approx(1.4826 * scipy.stats.median_abs_deviation(row), rel=1e-9)
        assert median(row) == pytest.approx(np.median(row), rel=1e-14)
        assert s == summarise(row)


@pytest.mark.parametrize("kind", ["plain", "ties", "equal", "failures", "ranges"])
def test_order_statistics_of_many_blocks_are_those_of_all_averages(kind: str) -> None:
    """Found by counting, they are the ones that sorting all averages gives, whatever the noise; so are the counts."""
    rng = np.random.default_rng(7)
    for n in (301, 350, 1100):
        low = rng.normal(0, 1, (1, n))
        if kind == "ties":
            low = np.round(low, 1)
        elif kind == "equal":
            low = np.zeros((1, n))
        elif kind == "ranges":
            low = np.round(rng.standard_cauchy((1, n)), 2)
        high = low + rng.choice([0.0, 0.5], (1, n)) if kind == "ranges" else low.copy()
        if kind == "failures":
            high[0, rng.integers(0, n, 20)] = np.inf
            low[0, rng.integers(0, n, 200)] = -np.inf
        contrasts = walsh_contrasts(low, high)
        first, second = np.triu_indices(n)
        lows, highs = (np.sort((side[0][first] + side[0][second]) / 2) for side in (low, high))
        total = lows.size
        for rank in [1, total // 2, total // 2 + 1, total, *rng.integers(1, total + 1, 6).tolist()]:
            found = contrasts.low(np.array([[rank]]))[0, 0], contrasts.high(np.array([[rank]]))[0, 0]
            assert found == pytest.approx((lows[rank - 1], highs[rank - 1]), abs=1e-12)
        assert contrasts.count_at_most(np.zeros((1, 1)))[0, 0] == (lows <= 0).sum()
        assert contrasts.count_at_least(np.zeros((1, 1)))[0, 0] == (highs >= 0).sum()


def test_rows_of_many_blocks_are_examined_together_as_one_by_one() -> None:
    """Ranks of their own for each row, neighbours among them; a wrong guess for one disturbs none."""
    rng, n = np.random.default_rng(12), 340
    failing = np.where(rng.random(n) < 0.1, -np.inf, rng.normal(0, 1, n))
    rows = np.stack([
        rng.normal(0, 1, n), np.round(rng.normal(0, 1, n), 1), np.zeros(n), rng.standard_cauchy(n),
        np.repeat([0.0, 1e6], n // 2) + rng.normal(0, 1e-3, n), failing,
    ])  # fmt: skip
    ends = rows.copy()
    ends[5][np.isinf(rows[5])] = np.inf
    together = walsh_contrasts(rows, ends)
    first, second = np.triu_indices(n)
    lows, highs = (np.sort((side[:, first] + side[:, second]) / 2, axis=1) for side in (rows, ends))
    total = lows.shape[1]
    ranks = np.sort(rng.integers(1, total + 1, (6, 3)), axis=1)
    ranks = np.concatenate([np.tile([total // 2, total // 2 + 1], (6, 1)), ranks, np.tile([1, total], (6, 1))], axis=1)
    limits = rng.normal(0, 1, (6, 2))

    assert together.rows == 6
    assert not together.exact
    for found, kept in ((together.low(ranks), lows), (together.high(ranks), highs)):
        assert found == pytest.approx(np.take_along_axis(kept, ranks - 1, axis=1), rel=1e-12, abs=1e-9)
    below = [[(lows[i] <= limit).sum() for limit in limits[i]] for i in range(6)]
    above = [[(highs[i] >= limit).sum() for limit in limits[i]] for i in range(6)]
    assert together.count_at_most(limits).tolist() == below
    assert together.count_at_least(limits).tolist() == above
    low, high = intervals(together, np.full((6, 2), [0.05, 1e-4]))
    for i in range(6):
        alone = walsh_contrasts(rows[i : i + 1], ends[i : i + 1])
        one_low, one_high = intervals(alone, np.array([[0.05, 1e-4]]))
        assert (low[i].tolist(), high[i].tolist()) == (one_low[0].tolist(), one_high[0].tolist())


@pytest.mark.parametrize("kind", ["normal", "ties", "failures"])
def test_order_statistics_of_many_pairs_are_those_of_all_differences(kind: str) -> None:
    """The same for two samples without blocks, of unequal size."""
    rng = np.random.default_rng(8)
    one, other = rng.normal(0, 1, 400), rng.normal(0.1, 2, 700)
    if kind == "ties":
        one, other = np.round(one, 1), np.round(other, 1)
    ends = one.copy()
    if kind == "failures":
        ends[:30] = np.inf
    contrasts = pairwise_contrasts((one, ends), (other, other))
    lows, highs = (np.sort(np.subtract.outer(other, side).ravel()) for side in (ends, one))
    for rank in [1, lows.size // 2, lows.size, *rng.integers(1, lows.size + 1, 8).tolist()]:
        found = contrasts.low(np.array([[rank]]))[0, 0], contrasts.high(np.array([[rank]]))[0, 0]
        assert found == pytest.approx((lows[rank - 1], highs[rank - 1]), abs=1e-12)
    assert contrasts.count_at_most(np.zeros((1, 1)))[0, 0] == (lows <= 0).sum()
