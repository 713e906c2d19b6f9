"""All workloads together: the load by how often each runs, plain sums beside it, and the geometric mean."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np
import pytest
import scipy.stats
from builders import made_record, noisy
from conftest import Run

from bystander.design import Record, Status, StoppingRule
from bystander.errors import UsageError
from bystander.stats import (
    Looks,
    part_errors,
    planned_looks,
    ratio_of_sums,
    stopping_bias,
    student_quantile,
    weighted_sum,
)
from bystander.verdicts import Decision, Options, Order, decide, whole_lines

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize("freedom", [1, 2, 3, 4, 6, 7, 19, 39, 500])
def test_student_quantiles_are_those_of_the_tables(freedom: int) -> None:
    """To five digits, from the middle to far out."""
    for level in (1.0, 0.9, 0.5, 0.1, 0.05, 0.01, 1e-3, 1e-6, 1e-9):
        assert student_quantile(level, freedom) == pytest.approx(scipy.stats.t.isf(level / 2, freedom), rel=1e-5)


def stopped_mean(rng: np.random.Generator, plan: Looks, shift: float, margin: float, risk: float) -> tuple[float, int]:
    """Return where a row of normal differences ends, by t-tests written down anew, and after how many blocks."""
    values = rng.normal(shift, 1.0, plan.most)
    for k, n in enumerate(plan.blocks):
        mean, error = values[:n].mean(), values[:n].std(ddof=1) / math.sqrt(n)
        levels = [float(plan.nominal(k, np.array(x))) for x in (risk, 2 * risk)]
        far, near = (scipy.stats.t.isf(level / 2, n - 1) for level in levels)
        if (abs(mean) > margin and abs(mean) >= far * error) or margin - abs(mean) >= near * error:
            return float(mean), n
    return float(values.mean()), plan.most


def test_what_stopping_does_to_estimates_is_taken_back() -> None:
    """Rows that are all slower by as much stop when they look slower still; on average that is taken away."""
    plan, rng = planned_looks(40, 0.0025), np.random.default_rng(5)
    shift, margin, risk = 0.9, 0.3, 0.0025
    seen = np.array([stopped_mean(rng, plan, shift, margin, risk)[0] for _ in range(1500)])
    ones = np.ones(seen.size)
    added = stopping_bias(seen, ones, [plan] * seen.size, margin * ones, risk, seed=3)
    error = float(seen.std() / math.sqrt(seen.size))

    assert seen.mean() - shift > 5 * error
    assert abs((seen + added).mean() - shift) < 4 * error
    assert added.tolist() == stopping_bias(seen, ones, [plan] * seen.size, margin * ones, risk, seed=3).tolist()
    for odd in (np.nan, 0.0, np.inf):
        assert stopping_bias(np.array([0.5]), np.array([odd]), [plan], np.array([0.1]), risk).tolist() == [0.0]
    assert stopping_bias(np.array([0.5]), np.ones(1), [Looks((12,))], np.array([0.1]), risk).tolist() == [0.0]


def test_distances_are_squared_and_added() -> None:
    """As Zou and Donner (2008) write it, for the difference of two proportions after Newcombe (1998, method 10)."""
    one, other = (scipy.stats.binomtest(k, n).proportion_ci(method="wilson") for k, n in ((56, 70), (48, 80)))
    value, low, high = weighted_sum(
        np.array([1.0, -1.0]), np.array([0.8, 0.6]), np.array([one.low, other.high]), np.array([one.high, other.low])
    )
    assert (value, low, high) == (pytest.approx(0.2), pytest.approx(0.0524, abs=5e-5), pytest.approx(0.3339, abs=5e-5))
    alone = weighted_sum(np.ones(1), np.array([1.2]), np.array([1.1]), np.array([1.4]))
    assert alone == (pytest.approx(1.2), pytest.approx(1.1), pytest.approx(1.4))


def test_levels_of_parts_lie_between_their_own_and_that_of_the_whole() -> None:
    """One part alone has its own; of a hundred alike each has nearly that of the whole."""
    assert part_errors(np.array([3.0, 0.0]), np.array([0.01, 0.02]), 0.05)[0] == pytest.approx(0.01)
    alike = part_errors(np.full(100, 2.0), np.full(100, 0.01), 0.05)
    assert alike == pytest.approx(0.05**0.9 * 0.01**0.1)
    assert part_errors(np.zeros(2), np.full(2, 0.01), 0.05) == pytest.approx(0.01)


def test_the_ratio_of_sums_holds_as_often_as_it_says() -> None:
    """The delta method against drawn trials: the truth lies in 95 of 100 intervals."""
    rng, weights, truth = np.random.default_rng(8), np.array([3.0, 1.0]), (3 * 1.1 + 1 * 5 * 0.9) / (3 + 5)
    held = 0
    for _ in range(600):
        drift = rng.normal(0, 0.1, 30)
        pair = [1 * np.exp(drift), 1.1 * np.exp(drift + rng.normal(0, 0.02, 30))]
        apart = [5 * (1 + rng.normal(0, 0.05, 12)), 4.5 * (1 + rng.normal(0, 0.05, 17))]
        found = ratio_of_sums(weights, [pair[0], apart[0]], [pair[1], apart[1]], [True, False], 0.05)
        held += found.low <= truth <= found.high
    assert 0.925 <= held / 600 <= 0.975
    constant = ratio_of_sums(np.ones(1), [np.full(6, 2.0)], [np.full(6, 3.0)], [True], 0.05)
    assert (constant.low, constant.ratio, constant.high) == (1.5, 1.5, 1.5)
    for times in (2.0**990, 2.0**-990):  # only the ratio of weights counts, up to the largest floats
        assert ratio_of_sums(times * weights, [pair[0], apart[0]], [pair[1], apart[1]], [True, False], 0.05) == found


def weighted(
    record: Record, weights: Mapping[str, float], per: str = "", scale: Mapping[str, float] | None = None
) -> Record:
    """Return a record whose study says how often its workloads run."""
    study = record.head.study
    workloads = tuple(
        replace(one, weight=weights.get(one.name), scale=(scale or {}).get(one.name, 1.0)) for one in study.workloads
    )
    return replace(record, head=replace(record.head, study=replace(study, workloads=workloads, per=per)))


def harbour(changes: Mapping[str, float], count: int = 20, **more: Any) -> Record:
    """Return a record of workloads of 1 s, 2 s, 3 s ... with noise of 1 %, and by how much each changed."""
    readings: dict[str, dict[str, Sequence[float]]] = {
        name: {"before": noisy(count, k, 0.01, 2 * k), "after": noisy(count, k * change, 0.01, 2 * k + 1)}
        for k, (name, change) in enumerate(changes.items(), 1)
    }
    return made_record(readings, **more)


def test_the_whole_load_weighs_by_how_often_and_how_long() -> None:
    """Weight, scale and the mean time of the reference; contributions add up to the change, doubts to one."""
    record = weighted(harbour({"gauge": 1.1, "year": 0.5, "start": 1.0}), {"gauge": 100, "year": 1}, "day", {"year": 5})
    (load,) = decide(record).loads
    (mean,) = decide(record).means
    shares = np.array([100 * 1, 5 * 2]) / 110
    by_name = {part.workload: part for part in load.parts}

    assert load.ratio == pytest.approx(shares @ [1.1, 0.5], rel=0.01)
    assert load.low < load.ratio < load.high
    assert [by_name[name].share for name in ("gauge", "year")] == pytest.approx(shares, rel=0.01)
    assert sum(part.contribution for part in load.parts) == pytest.approx(load.ratio - 1)
    assert sum(part.uncertainty for part in load.parts) == pytest.approx(1)
    assert load.seconds == pytest.approx(110, rel=0.01)
    assert load.saved[0] == pytest.approx(110 * (1 - load.ratio), rel=0.01)
    assert [part.workload for part in load.parts] == ["gauge", "year"]
    assert load.sums is not None
    assert load.sums.sums.ratio == pytest.approx(load.ratio, rel=0.01)
    assert not load.sums.rare_slow
    assert mean.ratio == pytest.approx((1.1 * 0.5 * 1.0) ** (1 / 3), rel=0.01)
    first, second, third, fourth = whole_lines(decide(record))
    assert first.startswith("The whole load, 2 workloads by how often each runs: after takes ")
    assert "% more time than before (" in first
    assert " % more, 95 % interval), which costs 4." in first
    assert " per day (" in first
    assert first.endswith("Without a weight: start.")
    assert second.startswith("By plain sums of the same trials: ")
    assert third.startswith("What moves it: gauge +8")
    assert "Shares of the load as it was measured: gauge 91 %, year 9.1 %." in third
    assert fourth.startswith("Geometric mean over 3 workloads, each counting alike: after takes 18")


def test_weights_count_by_their_ratios() -> None:
    """The largest and the least that a float can hold give what ordinary ones give."""
    record = harbour({"gauge": 1.1, "year": 0.5, "start": 1.0})
    (plain,) = decide(weighted(record, {"gauge": 100, "year": 1}, "day")).loads
    for factor in (1e300, 2.0**-1060):
        (load,) = decide(weighted(record, {"gauge": 100 * factor, "year": factor}, "day")).loads
        assert (load.ratio, load.low, load.high) == pytest.approx((plain.ratio, plain.low, plain.high))
        assert load.sums is not None
        assert plain.sums is not None
        assert load.sums.sums.ratio == pytest.approx(plain.sums.sums.ratio)


def test_one_workload_alone_has_the_interval_of_its_row() -> None:
    """With a fixed number of blocks nothing is corrected."""
    record = weighted(harbour({"gauge": 1.1}), {"gauge": 3})
    decision = decide(record)
    (load,), (row,) = decision.loads, decision.primary
    assert (load.ratio, load.low, load.high) == pytest.approx((row.estimate, row.low, row.high))
    assert decision.means == ()


def test_wrong_and_failed_workloads_are_left_out_and_named() -> None:
    """Unless the other answer is accepted."""
    failed = {("year", "after"): range(20)}
    record = weighted(
        harbour({"gauge": 1.1, "year": 0.5, "notices": 0.6}, failed=failed, answers={("notices", "after"): 1},
                answer_rule="output"),
        {"gauge": 1, "year": 1, "notices": 1},
    )  # fmt: skip
    (load,), (mean,) = decide(record).loads, decide(record).means
    assert (load.workloads, load.other_answer, load.failed) == (("gauge",), ("notices",), ("year",))
    assert load.ratio == pytest.approx(1.1, rel=0.01)
    assert not mean.known
    assert "Left out: notices (another answer); year (failed)." in whole_lines(decide(record))[0]
    assert not any(line.startswith("Geometric mean") for line in whole_lines(decide(record)))
    rules = tuple(
        replace(one, answer_rule=replace(one.answer_rule, accept="meant")) for one in record.head.study.workloads
    )
    accepted = replace(record, head=replace(record.head, study=replace(record.head.study, workloads=rules)))
    assert decide(accepted).loads[0].workloads == ("gauge", "notices")


def test_single_failed_trials_stay_as_bounds() -> None:
    """A trial cut at its limit lifts the upper end, and plain sums leave its block out; too many leave no total."""
    changes = {"gauge": 1.1, "year": 1.0}
    clean = decide(weighted(harbour(changes), {"gauge": 1, "year": 1})).loads[0]
    few = {("gauge", "after"): (3,)}
    one = decide(weighted(harbour(changes, failed=few, status=Status.CUT), {"gauge": 1, "year": 1})).loads[0]
    assert one.known
    assert one.high > clean.high
    assert one.sums is not None
    assert one.sums.left_out == 1
    assert (
        ", without 1 block in which a trial failed."
        in whole_lines(decide(weighted(harbour(changes, failed=few, status=Status.CUT), {"gauge": 1, "year": 1})))[1]
    )
    many = {("gauge", "after"): range(8), ("gauge", "before"): range(8)}
    none = decide(weighted(harbour(changes, failed=many), {"gauge": 1, "year": 1}))
    assert none.loads[0].prevented == (("gauge", "failed trials leave it without a bound"),)
    said = "The whole load of after has no total: gauge: failed trials leave it without a bound."
    assert whole_lines(none)[0] == said


def test_few_blocks_give_no_total() -> None:
    """Five are too few; trials without blocks count by the smaller arm."""
    few = decide(weighted(harbour({"gauge": 1.1, "year": 1.0}, count=5), {"gauge": 1, "year": 1}))
    assert few.loads[0].prevented == (("gauge", "it has 5 blocks"), ("year", "it has 5 blocks"))
    assert len(whole_lines(few)) == 1
    gone = {("year", arm): range(9) for arm in ("before", "after")}
    bare = decide(harbour({"gauge": 1.1, "year": 1.0, "start": 1.0}, failed=gone))
    assert "after over before is not told: year: failed trials leave it without a bound" in whole_lines(bare)[0]
    unpaired = decide(weighted(harbour({"gauge": 1.1, "year": 1.0}, paired=False), {"gauge": 1, "year": 1}))
    assert unpaired.loads[0].known
    few_unpaired = decide(weighted(harbour({"gauge": 1.1}, count=5, paired=False), {"gauge": 1}))
    assert few_unpaired.loads[0].prevented[0][1] == "it has 5 trials of an arm"


def test_rare_slow_trials_part_sums_from_typical_times() -> None:
    """Two slow trials of twenty lift the sum, and hardly what a trial typically takes."""
    record = harbour({"gauge": 1.0})
    readings = record.trials.readings.copy()
    slow = np.flatnonzero(record.trials.arm == 1)[[4, 11]]
    readings[slow] *= 4
    record = weighted(replace(record, trials=replace(record.trials, readings=readings)), {"gauge": 1})
    (load,) = decide(record).loads
    assert load.sums is not None
    assert load.sums.sums.ratio == pytest.approx(1.3, abs=0.02)
    assert load.high < 1.05
    assert "rare slow trials count more in sums than in typical times" in whole_lines(decide(record))[1]


def test_a_measure_that_is_no_time_has_a_mean_and_no_load() -> None:
    """A load is a sum of seconds."""
    record = weighted(harbour({"gauge": 1.1, "year": 1.0}, measure="peak_memory"), {"gauge": 1, "year": 1})
    found = decide(record)
    assert found.loads == ()
    assert found.means[0].known


def test_rows_stand_in_the_order_of_what_they_add() -> None:
    """Worst first; those without a part in it behind. Where there is no load, that is said."""
    record = weighted(harbour({"year": 1.5, "gauge": 1.1, "start": 1.0}), {"gauge": 1000, "year": 1})
    assert decide(record).primary[0].workload == "year"
    ordered = decide(record, Options(order=Order.CONTRIBUTION))
    assert [row.workload for row in ordered.primary] == ["gauge", "year", "start"]
    with pytest.raises(UsageError, match="no workload has a weight"):
        decide(harbour({"year": 1.5}), Options(order=Order.CONTRIBUTION))
    with pytest.raises(UsageError, match="--only leaves some workloads out"):
        decide(record, Options(order=Order.CONTRIBUTION, only=("year",)))
    assert decide(record, Options(only=("year",))).loads == ()


def suite(rng: np.random.Generator, size: int, effect: float) -> Decision:
    """Return a suite of that many workloads, each slower by the effect, that could stop at looks."""
    readings = {}
    for w in range(size):
        noise = rng.normal(0, 0.05, (2, 40))
        readings[f"w{w}"] = {"a": np.exp(noise[0]).tolist(), "b": np.exp(noise[1] + effect).tolist()}
    record = weighted(made_record(readings), {f"w{w}": 1.0 + w % 5 for w in range(size)})
    study = replace(record.head.study, stopping=StoppingRule.LOOKS)
    return decide(replace(record, head=replace(record.head, study=study)))


@pytest.mark.slow
def test_intervals_of_wholes_hold_where_rows_stopped() -> None:
    """Twenty workloads that all got 6 % slower, where means of the estimates as they are hold far less often."""
    rng, effect = np.random.default_rng(20261127), math.log(1.06)
    held, plain = [], []
    for _ in range(60):
        decision = suite(rng, 20, effect)
        (load,), (mean,) = decision.loads, decision.means
        held += [load.low <= 1.06 <= load.high, mean.low <= 1.06 <= mean.high]
        plain.append(math.log(np.prod([row.estimate for row in decision.primary])) / 20 - effect)
    assert sum(held) >= 108  # of 120, at 95 %
    assert np.mean(plain) > 3 * np.std(plain) / math.sqrt(len(plain))  # they are too far from no change


def test_what_is_said_of_the_whole_reaches_every_form(run: Run, tmp_path: Path) -> None:
    """The terminal, JSON by its schema, text and page; the study says what weights mean."""
    (tmp_path / "bystander.toml").write_text(
        "blocks = 8\nstopping = 'fixed'\nload.per = 'day'\n[arms.a]\n[arms.b]\n[workloads.v]\ncommand = 'true'\n"
        "weight = 4\nscale = 30\n[workloads.w]\ncommand = 'true'\nweight = 1\n", encoding="utf-8",
    )  # fmt: skip
    run("observe", "--quiet")
    shown = " ".join(run("decide", "--order", "contribution").stdout.split())
    document = json.loads(run("decide", "--json").stdout)
    run("report", "--to", "review.md")
    run("report", "--to", "review.html")
    text, page = ((tmp_path / f"review.{kind}").read_text(encoding="utf-8") for kind in ("md", "html"))
    (load,) = document["load"]

    jsonschema.validate(document, json.loads((ROOT / "docs" / "verdicts.schema.json").read_text(encoding="utf-8")))
    assert (load["per"], {part["workload"]: part["runs"] for part in load["parts"]}) == ("day", {"v": 120, "w": 1})
    assert len(document["geometric_mean"]) == 1
    for form in (shown, text, page):
        assert "The whole load, 2 workloads by how often each runs" in form
        assert "per day (" in form
        assert "Geometric mean over 2 workloads" in form
    assert "verdict change (interval) the whole" in shown
    assert "moves the whole by" in text
    assert "moves the whole by" in page
    assert "no order; write worst or contribution" in run("decide", "--order", "name", code=2).stderr


@pytest.mark.parametrize(
    ("lines", "said"),
    [
        ("load.per = ''", 'load.per: "" is no span; write for example "day"'),
        ("load.each = 'day'", "load.each: there is no such key"),
        ("load.per = 'day'", "load: no workload has a weight above 0"),
        ("load = 3", "load: 3 is no table"),
    ],
)
def test_a_wrong_load_is_told(run: Run, tmp_path: Path, lines: str, said: str) -> None:
    """One sentence each."""
    text = f"{lines}\n[arms.a]\n[workloads.v]\ncommand = 'true'\nscale = 2\n"
    (tmp_path / "bystander.toml").write_text(text, encoding="utf-8")
    assert said in run("check", code=2).stderr
    (tmp_path / "bystander.toml").write_text(text.replace(lines, "").replace("= 2", "= 0"), encoding="utf-8")
    assert "workloads.v.scale: 0 is no scale; write a number above 0" in run("check", code=2).stderr
