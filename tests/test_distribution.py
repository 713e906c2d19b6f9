"""Fast, typical and slow trials by order statistics; a tail that moves by itself and two speeds are said."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from builders import made_record, noisy
from scipy import stats as authority

from bystander.report import page
from bystander.stats import SHARES, needed_trials, order_cut, quantile_ratios, two_speeds
from bystander.verdicts import decide
from bystander.verdicts.decided.distribution import _tail_note


def test_the_trials_needed_are_the_published_ones() -> None:
    """For an interval of the ratio at 95 %."""
    assert [needed_trials(share, 0.05) for share in SHARES] == [42, 16, 7, 16, 42, 86, 437]


@pytest.mark.parametrize("n", [7, 20, 41, 42, 100, 437])
@pytest.mark.parametrize("share", SHARES)
@pytest.mark.parametrize("tail", [0.0125, 0.001])
def test_order_statistics_miss_as_seldom_as_promised(n: int, share: float, tail: float) -> None:
    """Against the binomial distribution of an authority: within the tail, and the next one would not be."""
    low, high = order_cut(n, share, tail)

    if low >= 0:
        assert authority.binom.cdf(low, n, share) <= tail + 1e-12
    assert authority.binom.cdf(low + 1, n, share) > tail - 1e-12
    if high < n:
        assert authority.binom.sf(high, n, share) <= tail + 1e-12
    assert authority.binom.sf(high - 1, n, share) > tail - 1e-12


def test_enough_trials_are_just_enough() -> None:
    """With the trials needed the interval is bounded at its far end, with one fewer it is not."""
    for share in (0.75, 0.9, 0.95):
        n = needed_trials(share, 0.05)
        for size, bounded in ((n, True), (n - 1, False)):
            values = np.sort(np.random.default_rng(2).lognormal(0, 0.3, size))
            _, low, high = quantile_ratios(values[None], values[None] * 1.1, share, 0.05)
            assert (low[0] > 0 and math.isfinite(high[0])) == bounded


@pytest.mark.parametrize("share", [0.25, 0.9])
def test_the_interval_of_a_ratio_covers_it(share: float) -> None:
    """At least 95 % of 2,000 drawn pairs of samples, but for chance."""
    rng = np.random.default_rng(3)
    a, b = (np.sort(factor * rng.lognormal(0, 0.3, (2000, 60)), axis=1) for factor in (1.0, 1.2))
    ratio, low, high = quantile_ratios(a, b, share, 0.05)
    held = np.count_nonzero((low <= 1.2) & (high >= 1.2))

    assert ratio[0] == pytest.approx(np.quantile(b[0], share) / np.quantile(a[0], share), rel=1e-12)
    assert held >= 0.95 * 2000 - 3 * math.sqrt(0.05 * 0.95 * 2000)


def test_the_interval_of_a_ratio_covers_it_after_stopping() -> None:
    """Studies of a change of 5 % that stop when it is shown: the middle and the slow quarter till then."""
    held = []
    for seed in range(80):
        before, after = noisy(40, 1.0, 0.05, seed=seed), noisy(40, 1.05, 0.05, seed=1000 + seed)
        fixed = made_record({"w": {"a": before, "b": after}}, margin=0.01)
        early = replace(fixed, head=replace(fixed.head, study=replace(fixed.head.study, stopping="looks")))
        blocks = decide(early).primary[0].stop.blocks
        sides = [np.sort(values[:blocks])[None] for values in (before, after)]
        for share in (0.5, 0.75):
            _, low, high = quantile_ratios(sides[0], sides[1], share, 0.05)
            held.append(bool(low[0] <= 1.05 <= high[0]))

    assert np.mean(held) >= 0.97


def test_two_speeds_are_found_and_one_is_left_alone() -> None:
    """A third of the trials a fifth slower; bell-shaped, skewed, heavy-tailed and even readings have one speed."""
    rng = np.random.default_rng(4)
    two = np.sort(np.exp(rng.normal(0, 0.02, 40) + 0.2 * (np.arange(40) % 3 == 0)))
    found = two_speeds(two[None])[0]
    assert found is not None
    assert found == pytest.approx((1.0, 1.22, 14 / 40), rel=0.03)

    luck = 0
    for _ in range(1000):
        for values in (rng.normal(1, 0.02, 30), rng.lognormal(0, 0.4, 30), 1 + 0.01 * rng.standard_t(4, 30)):
            luck += two_speeds(np.sort(np.abs(values))[None])[0] is not None
    assert luck <= 12
    assert two_speeds(np.repeat([1.0, 2.0], 7)[None]) == [None]


def test_slow_trials_that_change_by_themselves_are_said() -> None:
    """Every tenth trial takes twice as long, the typical one as long as before."""
    rng = np.random.default_rng(5)
    n = 300
    before, after = (0.1 * np.exp(rng.normal(0, 0.01, n)) for _ in range(2))
    after[rng.permutation(n)[:40]] *= 2
    decision = decide(made_record({"w": {"before": before.tolist(), "after": after.tolist()}}))
    row = decision.primary[0]
    notes = {note.code: note.text for note in row.notes}
    shifts = {shift.share: shift for shift in decision.distributions[0].shifts}

    assert row.verdict == "same"
    assert "The slowest twentieth of the trials is slower: 1.97 times" in notes["tail-changed"]
    assert "the typical trial is same" in notes["tail-changed"]
    assert shifts[0.99].needed == 437
    assert shifts[0.95].low > 1.8
    assert shifts[0.5].low < 1 < shifts[0.5].high
    assert "for the others: 99th percentile: 437." in page(decision)


def test_spread_and_slow_trials_are_counted_against_the_reference() -> None:
    """Slow is what lies beyond the reference's 90th percentile; under 20 trials nobody is called slow."""
    rng = np.random.default_rng(8)
    before, after = rng.lognormal(0, 0.1, 40), rng.lognormal(0, 0.3, 40)
    (one,) = decide(made_record({"w": {"before": before.tolist(), "after": after.tolist()}})).distributions
    limit = np.quantile(before, 0.9)
    (few,) = decide(made_record({"w": {"before": before[:19].tolist(), "after": after[:19].tolist()}})).distributions

    assert one.slow == ((4, 40), (int((after > limit).sum()), 40))
    for spread, side in zip(one.spread, (before, after), strict=True):
        middle = np.median(side)
        assert spread == pytest.approx(1.4826 * np.median(np.abs(side - middle)) / middle)
    assert few.slow is None


def test_tails_are_hardly_ever_said_to_change_by_luck() -> None:
    """The same code in both arms of ten workloads, forty times over: at most one false word at a risk of 5 % each."""
    said = 0
    for seed in range(40):
        rng = np.random.default_rng([6, seed])
        times = {f"w{i}": {arm: rng.lognormal(0, 0.2, 120).tolist() for arm in ("before", "after")} for i in range(10)}
        said += any(row.has("tail-changed") for row in decide(made_record(times)).primary)

    assert said <= 5


def test_failures_and_counts_have_no_distribution() -> None:
    """A failed trial would be a slow one of unknown length."""
    times = {"w": {"before": [0.1] * 20, "after": [0.1] * 20}}

    assert decide(made_record(times, failed={("w", "after"): [3]})).distributions == ()
    assert decide(made_record(times, measure="minor_faults")).distributions == ()


@pytest.mark.parametrize(
    ("share", "part"), [(0.75, "quarter"), (0.9, "tenth"), (0.95, "twentieth"), (0.99, "hundredth")]
)
def test_slow_parts_have_names(share: float, part: str) -> None:
    """Each quantile that is looked at for slow trials is called by what lies beyond it."""
    (row,) = decide(made_record({"w": {"a": [1.0] * 12, "b": [1.0] * 12}})).primary
    note = _tail_note(row, share, 1.4, 1.2, 1.5, 0.05)

    assert note is not None
    assert note.text == (
        f"The slowest {part} of the trials is slower: 1.40 times (1.20 to 1.50 at 95 %); the typical trial is same."
    )
    assert _tail_note(row, share, 1.0, 0.9, 1.1, 0.05) is None
