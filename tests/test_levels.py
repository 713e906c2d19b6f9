"""Repetition on two levels: both spreads are estimated, and the advice is the one that saves most time."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest
from conftest import Run

from bystander.design import Arm, Command, Status, Study, TimedCallable, TrialOutcome, Workload
from bystander.flow.commands.levels import record_levels
from bystander.foresight import TrialBlock, Tried, long_trials, repetition_advice
from bystander.stats import Levels, between_groups, block_and_trial_spread, levels, samples_that_pay


def test_both_spreads_are_estimated_whatever_the_drift() -> None:
    """From 4,000 blocks of known spreads, with a drift that both trials of a block share."""
    rng = np.random.default_rng(1)
    drift = np.cumsum(rng.normal(0, 0.1, (4000, 1)), axis=0)
    sides = [drift + rng.normal(0, 0.03, (4000, 1)) + rng.normal(0, 0.05, (4000, 10)) for _ in range(2)]
    found = levels(*sides)

    assert found.within == pytest.approx(0.05, rel=0.02)
    assert found.between == pytest.approx(0.03, rel=0.05)


@pytest.mark.parametrize(
    ("within", "between", "trial_s", "sample_s"), [(0.05, 0.03, 0.2, 0.01), (0.02, 0.05, 0.1, 0.05)]
)
def test_the_advice_is_the_best_of_all(within: float, between: float, trial_s: float, sample_s: float) -> None:
    """Held against every number of samples up to 200."""
    samples, saving = samples_that_pay(Levels(within, between), trial_s, sample_s, 30)
    costs = [(between**2 + within**2 / k) * (trial_s + k * sample_s) for k in range(1, 201)]

    assert abs(samples - (1 + int(np.argmin(costs)))) <= 1
    assert saving == pytest.approx(1 - costs[samples - 1] / costs[29])
    assert samples_that_pay(Levels(0.05, 0.0), 0.1, 0.01, 30) == (30, 0.0)


def blocks(within: float, between: float, count: int = 8) -> list[TrialBlock]:
    """Return blocks of a callable whose sample takes 50 ms, its process 0.1 s."""
    rng = np.random.default_rng(2)

    def trial() -> TrialOutcome:
        level = math.log(0.05) + rng.normal(0, between)
        samples = tuple(np.exp(level + rng.normal(0, within, 30)).tolist())
        return TrialOutcome(
            Status.OK, 0, 0.0, 0.0, {"elapsed": 0.05}, samples={"elapsed": samples}, process_s=0.1 + sum(samples)
        )

    return [TrialBlock(0, (trial(), trial()), 3.2) for _ in range(count)]


def test_it_is_said_where_it_saves_a_third_of_the_time() -> None:
    """Processes that differ by more than their samples; not where the samples are what scatters, or blocks are few."""
    timed = TimedCallable("m:f", samples=30, iterations=1)
    study = Study("s", (Arm("before"), Arm("after")), (Workload("w", "w", timed),), blocks=20)
    said = repetition_advice(study, blocks(0.02, 0.05))

    assert len(said) == 1
    assert "w: samples of one trial scatter by 2" in said[0]
    assert "samples = 5 with blocks = " in said[0]
    assert 60 <= int(said[0].split("blocks = ")[1].split()[0]) <= 200
    assert repetition_advice(study, blocks(0.3, 0.001)) == []
    assert repetition_advice(study, blocks(0.02, 0.05, 2)) == []


def test_spreads_of_blocks_and_trials_are_parted_whatever_the_change() -> None:
    """From 20,000 blocks of known spreads; a change between the arms takes no part, and three outliers hardly any."""
    rng = np.random.default_rng(2)
    blocks = rng.normal(0, 0.08, 20_000)
    first, second = (blocks + rng.normal(change, 0.03, 20_000) for change in (0.0, 0.5))
    first[:3] += 9.0

    assert block_and_trial_spread(first, second) == pytest.approx((0.08, 0.03), rel=0.03)
    assert block_and_trial_spread(second[:2], first[:2]) == pytest.approx((math.nan, math.nan), nan_ok=True)


def test_records_differ_by_what_their_errors_do_not_explain() -> None:
    """Means of 4,000 records; where errors explain all of it nothing is left."""
    rng = np.random.default_rng(3)
    errors = rng.uniform(0.01, 0.03, 4000)
    means = rng.normal(0, 0.05, 4000) + rng.normal(0, errors)

    assert between_groups(means, errors) == pytest.approx(0.05, rel=0.05)
    assert between_groups(rng.normal(0, 0.01, 9), np.full(9, 0.5)) == 0
    assert math.isnan(between_groups(np.zeros(1), np.zeros(1)))


def test_levels_of_a_record_and_its_like_are_shown(run: Run, tmp_path: Path) -> None:
    """Records of the same reference, workload and machine are compared; one of another reference is not."""
    quick = ("observe", "--quiet", "--fixed", "6")
    for _ in range(2):
        run(*quick, "--arm", "before=sleep 0.01", "--arm", "after=sleep 0.02")
    run(*quick, "--arm", "before=sleep 0.03", "--arm", "after=sleep 0.01")
    first = json.loads(run("records", "levels", "before-and-after-1", "--json").stdout)
    shown = " ".join(run("records", "levels").stdout.split())
    _, found = record_levels(tmp_path / ".bystander" / "archive.sqlite", "before-and-after-2")

    (one,) = first["workloads"]
    assert (one["of_blocks"], one["of_records"], one["samples"]) == (6, 2, None)
    assert 0 < one["trials"] < 1
    assert found[0].records == pytest.approx(math.log1p(one["records"]))
    assert "6 blocks, 1 record" in shown


def test_long_trials_are_advised_to_be_shorter() -> None:
    """Commands of many seconds only, and only where arms are compared."""
    workloads = (Workload("long", "long", Command("x")), Workload("short", "short", Command("x")))
    study = Study("s", (Arm("a"), Arm("b")), workloads)
    tried = [
        Tried(w, a, TrialOutcome(Status.OK, 0, 0.0, 0.0, {"elapsed": seconds}))
        for w, seconds in enumerate((9.0, 0.4))
        for a in range(2)
    ]
    (told,) = long_trials(study, tried)

    assert told.startswith("Trials of long are long.")
    assert long_trials(Study("s", (Arm("a"),), workloads), tried) == []
