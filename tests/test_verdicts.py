"""Verdicts follow the table, keep failures, and pay for the whole suite."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
import scipy.stats
from builders import made_record, noisy
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import Record, Status
from bystander.errors import UsageError
from bystander.exchange import read_readings_csv
from bystander.verdicts import GateAsk, Options, Row, decide, failure_sentence, gate, gate_words, row_sentence
from bystander.verdicts.types import Decision

DATA = Path(__file__).parent / "data"


def one(record: Record, **options: object) -> Row:
    """Return the only primary row."""
    (row,) = decide(record, Options(**options)).primary  # type: ignore[arg-type]
    return row


def codes(row: Row) -> set[str]:
    return {note.code for note in row.notes}


def compared(factor: float, blocks: int = 20, spread: float = 0.01, **more: object) -> Record:
    """Return a record of one workload whose candidate takes `factor` times as long."""
    before, after = noisy(blocks, 0.1, spread, 1), noisy(blocks, 0.1 * factor, spread, 2)
    return made_record({"year": {"before": before, "after": after}}, **more)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("factor", "verdict", "relevance"),
    [
        (1.2, "slower", "beyond"),
        (0.5, "faster", "beyond"),
        (1.0, "same", "within"),
        (1.03, "slower", "undetermined"),
    ],
)
def test_a_plain_change_gets_its_verdict(factor: float, verdict: str, relevance: str) -> None:
    """Slower, faster, same: with relevance read from the interval."""
    row = one(compared(factor))

    assert (row.verdict, row.relevance) == (verdict, relevance)
    assert row.low <= factor * 1.01
    assert row.high >= factor * 0.99
    assert row.low < row.estimate < row.high


def test_estimate_interval_and_p_are_those_of_the_log_ratios() -> None:
    """The row's numbers are SciPy's for the differences of logarithms."""
    record = compared(1.1)
    values = record.trials.readings[:, 0]
    d = np.log(values[20:]) - np.log(values[:20])
    averages = np.sort([(a + b) / 2 for i, a in enumerate(d) for b in d[i:]])
    row = one(record)

    assert row.estimate == pytest.approx(math.exp(np.median(averages)), rel=1e-12)
    assert row.p == pytest.approx(scipy.stats.wilcoxon(d, method="exact").pvalue, abs=1e-12)
    assert (row.low, row.high) == pytest.approx((math.exp(averages[52]), math.exp(averages[-53])), rel=1e-12)


def test_a_change_within_the_margin_is_the_same_and_said_to_be_there() -> None:
    """A real change of 1 % within a margin of 3 % is "same", with a note."""
    row = one(compared(1.01, spread=0.002))

    assert (row.verdict, row.relevance) == ("same", "within")
    assert "change-detectable" in codes(row)


def test_noise_makes_a_row_unclear_and_says_what_could_have_been_shown() -> None:
    """Scatter of 20 % cannot decide 1 %; the note names the size that it could have shown."""
    row = one(compared(1.01, spread=0.2))

    assert row.verdict == "unclear"
    assert 0.05 < row.smallest_shown < 0.5
    assert "no-change-shown" in codes(row)
    assert "unclear: no change shown; not more than" in row_sentence(row)


def test_too_few_blocks_are_said_with_how_many_would_do() -> None:
    """Four blocks cannot show anything at 5 %; six could."""
    row = one(compared(2.0, blocks=4))

    assert row.verdict == "unclear"
    assert (row.low, row.high) == (0.0, math.inf)
    assert any(n.code == "too-few-blocks" and "6 would be the fewest" in n.text for n in row.notes)


def test_the_suite_pays_for_its_size() -> None:
    """A p just below 5 % is a change alone, and luck among twenty workloads."""
    d = np.linspace(-0.03, 0.065, 20)
    marginal = {"before": [0.1] * 20, "after": (0.1 * np.exp(d)).tolist()}
    quiet = {f"w{i}": {"before": noisy(20, 0.1, 0.1, i), "after": noisy(20, 0.1, 0.1, 99 + i)} for i in range(19)}
    alone = one(made_record({"m": marginal}, margin=0.001))
    among = next(
        row for row in decide(made_record({"m": marginal, **quiet}, margin=0.001)).primary if row.workload == "m"
    )

    assert alone.p == among.p <= 0.05
    assert alone.verdict == "slower"
    assert among.verdict == "unclear"
    assert "change-not-after-adjustment" in codes(among)
    assert among.p_adjusted > 0.05


def test_choosing_workloads_afterwards_does_not_lower_the_bar() -> None:
    """`only` shows fewer rows; their numbers stay what they were."""
    record = made_record(
        {f"w{i}": {"before": noisy(20, 1, 0.1, i), "after": noisy(20, 1.05, 0.1, 50 + i)} for i in range(6)}
    )
    whole = {row.workload: row for row in decide(record).primary}
    (part,) = decide(record, Options(only=("w3",))).primary

    assert part == whole["w3"]


def test_failures_stay_in_as_bounds() -> None:
    """Trials cut at their limit push the upper end of the interval; dropping them would show "same"."""
    cut = {("year", "after"): [0, 3, 7, 11, 14, 18]}
    row = one(compared(1.0, failed=cut, status=Status.CUT, limit_s=1.0))
    clean = one(compared(1.0))

    assert clean.verdict == "same"
    assert row.verdict != "same"
    assert row.high > clean.high
    assert "failures-kept" in codes(row)


@pytest.mark.parametrize(("arm", "code"), [("before", "reference-failed"), ("after", "all-failed")])
def test_an_arm_that_never_ends_well_has_failed(arm: str, code: str) -> None:
    """Whichever arm it is, the row is failed and says which."""
    row = one(compared(1.0, failed={("year", arm): range(20)}))

    assert row.verdict == "failed"
    assert code in codes(row)


def test_failing_significantly_more_often_is_failed() -> None:
    """Eight failures in twenty blocks against none is p = 2^-8; two are not enough."""
    often = one(compared(0.5, failed={("year", "after"): range(8)}))
    seldom = one(compared(0.5, failed={("year", "after"): range(2)}))

    assert often.verdict == "failed"
    assert any(n.code == "fails-more" and "8 of 20" in n.text for n in often.notes)
    assert seldom.verdict == "faster"


def test_another_answer_is_said_beside_the_verdict() -> None:
    """A faster arm with another answer is faster, and said to answer differently."""
    row = one(compared(0.5, answers={("year", "after"): 1}, answer_rule="output"))

    assert row.verdict == "faster"
    assert "answer-differs" in codes(row)
    assert "answer-differs" not in codes(one(compared(0.5, answers={("year", "after"): 1})))


def test_other_measures_are_a_family_of_their_own() -> None:
    """Memory has its own words and rows, and does not touch the headline."""
    memory = {"year": {"before": [1e7 + i for i in range(20)], "after": [2e7 + i * 7 for i in range(20)]}}
    plain, richer = decide(compared(1.2)), decide(compared(1.2, more={"peak_memory": memory}))
    (row,) = richer.secondary

    assert richer.primary == plain.primary
    assert (row.verdict, row.primary, row.scale) == ("more", False, "ratio")


def test_counts_are_decided_by_differences() -> None:
    """Counts have no ratio when they are zero: their difference is tested against a share of the reference's median."""
    counts = {"year": {"before": [0.0] * 10 + [100.0] * 10, "after": [50.0] * 10 + [151.0] * 10}}
    (row,) = decide(compared(1.0, more={"minor_faults": counts})).secondary

    assert (row.scale, row.verdict) == ("difference", "more")
    assert 50 <= row.estimate <= 51
    assert row.margin == pytest.approx(0.03 * 50)


def test_unpaired_trials_are_decided_by_all_pairs() -> None:
    """Without blocks the estimate is the median of all pairwise log differences."""
    row = one(compared(1.3, paired=False, origin="imported"))

    assert (row.pairing, row.blocks, row.verdict) == ("none", 0, "slower")
    assert "unrandomised" in codes(row)


def test_several_candidates_share_the_risk() -> None:
    """With two candidates each is decided at half the risk, and its adjusted p says so."""
    before, after = noisy(20, 1, 0.05, 1), noisy(20, 1.02, 0.05, 2)
    two = made_record({"w": {"before": before, "after": after, "third": noisy(20, 1, 0.05, 3)}}, margin=0.001)
    pair = made_record({"w": {"before": before, "after": after}}, margin=0.001)
    rows = {row.arm: row for row in decide(two).primary}

    assert rows["after"].p == one(pair).p
    assert rows["after"].p_adjusted == pytest.approx(min(1, 2 * one(pair).p_adjusted))
    assert len(decide(two, Options(arm="third")).primary) == 1


def test_reading_zero_everywhere_is_the_same() -> None:
    """Readings that never differ are the same, whatever their margin."""
    (row,) = decide(
        compared(1.0, more={"major_faults": {"year": {"before": [0.0] * 20, "after": [0.0] * 20}}})
    ).secondary

    assert (row.verdict, row.p) == ("same", 1.0)


def test_exploration_is_marked_and_wrong_choices_are_refused() -> None:
    """Another margin afterwards is told; a workload that is not there is an error with the known ones."""
    record = compared(1.05)

    assert decide(record, Options(margin=0.2)).exploration
    assert not decide(record, Options(margin=0.03)).exploration
    for options in (Options(arm="x"), Options(only=("x",)), Options(measure="x")):
        with pytest.raises(UsageError, match='"x"; it has'):
            decide(record, options)


def test_the_gate_holds_the_whole_suite() -> None:
    """The gate looks by Holm: it finds a clear regression, ignores what lies within the margin, and knows its words."""
    slow, fast = decide(compared(1.3)), decide(compared(0.7))

    assert gate(slow, GateAsk(gate_words("slower,failed"))).found == (("slower", "year"),)
    assert gate(fast, GateAsk(gate_words("slower,failed"))).found == ()
    assert gate(fast, GateAsk(gate_words("faster"))).found
    loose = decide(compared(1.3, paired=False, origin="imported"))
    assert gate(loose, GateAsk(("slower",))).found == ()
    assert gate(loose, GateAsk(("slower",))).left_out
    assert gate(loose, GateAsk(("slower",), also_unrandomised=True)).found
    with pytest.raises(UsageError, match='"slow" is nothing'):
        gate_words("slow")


def same_code(start: int, blocks: int = 25) -> Decision:
    """Decide a stretch of real trials of one code in both arms."""
    lines = (DATA / "same_code.csv").read_text(encoding="utf-8").splitlines()
    kept = [line for line in lines[1:] if start <= int(line.split(",")[2]) < start + blocks]
    imported = read_readings_csv("\n".join([lines[0], *kept]).encode(), "same_code.csv")
    readings: dict[str, dict[str, list[float]]] = {}
    for array in imported.arrays:
        by_arm = readings.setdefault(imported.workloads[array.workload], {})
        by_arm[imported.arms[array.arm]] = array.readings[:, 0].tolist()
    return decide(made_record(readings))


def test_the_same_code_is_hardly_ever_called_changed() -> None:
    """Real noise, both arms alike, 25 blocks: raw p below 5 % in about 5 %, a change after adjustment in hardly any."""
    decisions = [same_code(start) for start in range(0, 300, 25)]
    p = [row.p for d in decisions for row in d.primary]
    changed = [row for d in decisions for row in d.primary if row.verdict in ("slower", "faster")]

    assert len(p) == 48
    assert sum(value < 0.05 for value in p) <= 6  # binomial: more than 6 of 48 happens once in 50 times
    assert len(changed) <= 1


@given(st.integers(0, 10_000), st.floats(0.9, 1.1), st.integers(2, 25))
def test_no_row_contradicts_itself(seed: int, factor: float, blocks: int) -> None:
    """Slower has its interval above 1, faster below, same within the margin; adjusted p is never smaller than p."""
    record = made_record(
        {
            f"w{i}": {
                "before": noisy(blocks, 1, 0.03, seed + i),
                "after": noisy(blocks, factor, 0.03, seed + 50 + i),
            }
            for i in range(3)
        }
    )
    for row in decide(record).primary:
        assert row.p_adjusted >= row.p
        if row.verdict == "slower":
            assert row.low > 1
        elif row.verdict == "faster":
            assert row.high < 1
        elif row.verdict == "same":
            assert row.relevance == "within"


def test_failures_are_counted_by_how_they_ended() -> None:
    """Per workload and arm: how often, in which ways, the most frequent first."""
    record = compared(1.0, failed={("year", "after"): [1, 2, 3]}, status=Status.SIGNAL)
    record.trials.details[record.trials.status == Status.SIGNAL] = [9, 9, 11]
    (failure,) = decide(record).failures

    assert (failure.arm, failure.failed, failure.trials) == ("after", 3, 20)
    assert failure.ways == (("signal SIGKILL", 2), ("signal SIGSEGV", 1))
    assert failure_sentence(failure).endswith("3 of 20 trials failed (2 times signal SIGKILL, 1 times signal SIGSEGV)")
    assert decide(compared(1.0)).failures == ()
