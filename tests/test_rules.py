"""The table of verdicts, line by line, and what it promises over many suites."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from builders import made_record, noisy

from bystander.stats import examine, interval, walsh_contrasts
from bystander.verdicts import ArmSide, Stop, decide, stopping
from bystander.verdicts.compared.compared import ComparedRecord
from bystander.verdicts.decided.rules import RowFacts, outcome
from bystander.verdicts.tested.families import counting_rows, family_of
from bystander.verdicts.words import StopReason

WELL = ArmSide(20, 0, 1.0)
CASE = RowFacts(
    reference=WELL, candidate=WELL, silent_arm=None, apart=0, read=True, fails_more=1.0, p=0.5, p_adjusted=0.9, e=0.5,
    e_adjusted=0.9, leans=1, first_look=None, blocks=20, attainable=True, alpha=0.05, size=10,
    accepted=3, accepted_same=4, words=("slower", "faster"),
)  # fmt: skip


@pytest.mark.parametrize(
    ("change", "verdict", "error", "code"),
    [
        ({"apart": 9, "silent_arm": "after"}, "unclear", 0.05, "hours-apart"),
        ({"silent_arm": "after"}, "unclear", 0.05, "no-trials"),
        ({"reference": ArmSide(20, 20, 1.0)}, "failed", 0.05, "reference-failed"),
        ({"candidate": ArmSide(20, 20, 1.0)}, "failed", 0.05, "all-failed"),
        ({"fails_more": 0.05}, "failed", 0.05, "fails-more"),
        ({"read": False}, "unclear", 0.05, "not-read"),
        ({"e_adjusted": 0.05, "e": 0.01, "p": 0.05}, "same", 2 * 0.05 * 4 / 10, "change-detectable"),
        ({"e_adjusted": 0.05, "e": 0.01}, "same", 2 * 0.05 * 4 / 10, None),
        ({"e": 0.05}, "unclear", 0.05, "same-not-after-adjustment"),
        ({"p_adjusted": 0.05, "p": 0.01}, "slower", 0.05 * 3 / 10, None),
        ({"p_adjusted": 0.05, "p": 0.01, "leans": -1}, "faster", 0.05 * 3 / 10, None),
        ({"p": 0.05}, "unclear", 0.05, "change-not-after-adjustment"),
        ({"blocks": 7, "attainable": False}, "unclear", 0.05, "too-few-blocks"),
        ({"blocks": 8}, "unclear", 0.05, "no-change-shown"),
        ({"first_look": 8, "p_adjusted": 0.001, "p": 0.001}, "unclear", 0.05, "before-first-look"),
        ({"blocks": None}, "unclear", 0.05, "no-change-shown"),
        ({}, "unclear", 0.05, "no-change-shown"),
    ],
)
def test_the_first_line_that_holds_decides(change: dict, verdict: str, error: float, code: str | None) -> None:
    """Every line of the table by itself, at its very edge."""
    found = outcome(CASE._replace(**change))

    assert (found.verdict, found.note.code if found.note else None) == (verdict, code)
    assert found.error == pytest.approx(error)


def test_earlier_lines_come_first() -> None:
    """A failing reference is failed even where a change could be shown; equivalence comes before a change."""
    everything = CASE._replace(p_adjusted=0.0, p=0.0, e_adjusted=0.0, e=0.0, fails_more=0.0)

    assert outcome(everything).verdict == "failed"
    assert outcome(everything._replace(fails_more=1.0)).verdict == "same"


def models(rng: np.random.Generator, rows: int, n: int) -> dict[str, np.ndarray]:
    """Return block differences of zero centre under noise of several shapes, each of shape (rows, n)."""
    drift = np.linspace(0, 1, n)
    return {
        "normal": rng.normal(0, 0.02, (rows, n)),
        "heavy tail": rng.standard_t(2, (rows, n)) * 0.02,
        "two modes": rng.choice([-0.05, 0.05], (rows, n)) + rng.normal(0, 0.005, (rows, n)),
        "growing noise": rng.normal(0, 0.01, (rows, n)) * (1 + 4 * drift),
        "few distinct values": np.round(rng.normal(0, 0.02, (rows, n)), 2),
    }


def test_intervals_cover_the_truth() -> None:
    """At 95 %, over 2,000 rows of 20 blocks, under every noise model: at least 94 % of the intervals hold 0."""
    for name, d in models(np.random.default_rng(17), 2000, 20).items():
        low, high = interval(walsh_contrasts(d, d), np.full(2000, 0.05))

        assert np.mean((low <= 0) & (high >= 0)) >= 0.94, name


def test_p_is_uniform_or_cautious_when_nothing_differs() -> None:
    """Under every noise model p falls below 1, 5 and 20 % no more often than that, within sampling error."""
    for name, d in models(np.random.default_rng(23), 4000, 15).items():
        p = examine(walsh_contrasts(d, d), np.full(4000, 0.03)).p
        for level in (0.01, 0.05, 0.2):
            allowed = level + 3.3 * np.sqrt(level * (1 - level) / 4000)

            assert np.mean(p <= level) <= allowed, (name, level)


def test_a_change_of_the_margin_is_rarely_called_the_same() -> None:
    """When the truth lies exactly on the margin, e falls below 5 % in at most 5 % of rows."""
    rng = np.random.default_rng(29)
    margin = np.log(1.03)
    d = rng.normal(margin, 0.01, (4000, 20))
    e = examine(walsh_contrasts(d, d), np.full(4000, margin)).e

    assert np.mean(e <= 0.05) <= 0.05 + 3.3 * np.sqrt(0.05 * 0.95 / 4000)


def test_few_suites_of_unchanged_programs_show_any_change() -> None:
    """60 suites of 12 unchanged workloads at risk 5 %: hardly more than 5 % of the suites have a false row."""
    rng = np.random.default_rng(31)
    false_suites = 0
    for _ in range(60):
        suite = {
            f"w{i}": {arm: np.exp(rng.normal(0, 0.03, 20)).tolist() for arm in ("before", "after")} for i in range(12)
        }
        changed = [r for r in decide(made_record(suite)).primary if r.verdict in ("slower", "faster")]
        false_suites += bool(changed)

    assert false_suites <= 8  # binomial: more than 8 of 60 at 5 % happens less than once in 200 times


def test_a_real_change_is_found() -> None:
    """With 20 blocks and a spread of 2 % a change of 5 % is found in at least 95 of 100 suites of four."""
    rng = np.random.default_rng(37)
    found = 0
    for _ in range(100):
        suite = {
            f"w{i}": {
                "before": np.exp(rng.normal(0, 0.02, 20)).tolist(),
                "after": (np.exp(rng.normal(0, 0.02, 20)) * (1.05 if i == 0 else 1.0)).tolist(),
            }
            for i in range(4)
        }
        found += next(r for r in decide(made_record(suite)).primary if r.workload == "w0").verdict == "slower"

    assert found >= 95


def test_a_row_before_its_first_look_is_not_examined_with_others_of_its_size() -> None:
    """Rows are examined together by their blocks; one that reached no look stays out, wherever it stands."""
    record = made_record({name: {"before": noisy(9, 1), "after": noisy(9, 1.2)} for name in "abc"})
    compared, comparison = ComparedRecord(record), record.head.study.comparisons[0]
    reached, waiting = Stop(0, 9, StopReason.FIXED), Stop(None, 0, StopReason.BEFORE_FIRST_LOOK)
    for stops in ([waiting, reached, reached], [reached, waiting, reached], [reached, reached, waiting]):
        counting = replace(counting_rows(compared, comparison, stopping(compared)), stops=stops)
        (group,) = family_of(compared, counting, [record.head.measures[0]], 0.03).groups
        assert group.rows.tolist() == [i for i, stop in enumerate(stops) if stop is reached]
        assert group.contrasts.rows == 2
