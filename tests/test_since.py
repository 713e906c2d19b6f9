"""A record beside an earlier one: by verdicts, and by numbers only where two hours can be compared."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from builders import made_record, noisy
from conftest import Run
from history import git, make_history, write_state
from scipy.stats import mannwhitneyu
from scipy.stats import t as student

from bystander.design import ArmState, Record, State
from bystander.stats import by_pairs, by_reference
from bystander.verdicts import Change, decide, since, since_lines

ROOT = Path(__file__).parents[1]


def test_numbers_by_a_shared_reference_are_those_of_mann_and_whitney() -> None:
    """p is SciPy's exact one, the estimate the median of all differences."""
    rng = np.random.default_rng(1)
    then, now = rng.normal(0.1, 0.03, 12), rng.normal(0.14, 0.03, 15)
    found = by_reference(then, now)

    assert found.p == pytest.approx(mannwhitneyu(now, then, method="exact").pvalue)
    assert found.estimate == pytest.approx(np.median(np.subtract.outer(now, then)))
    assert found.low < found.estimate < found.high


def test_pairs_of_one_code_bound_what_two_hours_show() -> None:
    """Few pairs by t at 98.5 % times their root mean square, many by their rank; fewer than five say nothing."""
    pairs = np.array([0.02, -0.03, 0.01, 0.04, -0.02])
    half = student.ppf(0.985, 5) * math.sqrt(np.mean(pairs**2))
    many = np.linspace(-0.1, 0.1, 39)

    assert by_pairs(0.1, pairs).low == pytest.approx(0.1 - half, rel=1e-5)
    assert by_pairs(0.1, many).high == pytest.approx(0.1 + np.sort(np.abs(many))[math.ceil(0.95 * 40) - 1])
    assert by_pairs(0.3, pairs).shown
    with pytest.raises(ValueError, match="too little"):
        by_pairs(0.1, pairs[:4])


def named(record: Record, uuid: str, reference: str) -> Record:
    """Return a record as another observation, with a reference of that key."""
    arms = (ArmState("before", reference, "", ""), *record.head.arms[1:])
    return replace(record, head=replace(record.head, uuid=uuid, name=uuid, arms=arms))


def test_rows_are_new_mended_or_persisting_by_their_verdicts() -> None:
    """Each workload stands as its two verdicts say; a number is told where the reference is in both."""
    rows = {"new": (1.0, 1.2), "mended": (1.2, 1.0), "persisting": (1.2, 1.2), "alike": (1.0, 1.0)}

    def record(which: int) -> Record:
        return made_record({
            name: {
                "before": noisy(20, 1.0, 0.01, 10 * i + which),
                "after": noisy(20, both[which], 0.01, 90 + 10 * i + which),
            }
            for i, (name, both) in enumerate(rows.items())
        })  # fmt: skip

    then, now = named(record(0), "then", "key"), named(record(1), "now", "key")
    told = since((now, decide(now)), (then, decide(then)), {})
    by_name = {row.now.workload: row for row in told.rows}

    assert {name: row.change for name, row in by_name.items()} == {
        "new": Change.NEW, "mended": Change.MENDED, "persisting": Change.PERSISTING, "alike": Change.ALIKE,
    }  # fmt: skip
    assert by_name["new"].apart
    assert math.exp(by_name["new"].apart.estimate) == pytest.approx(1.2, abs=0.02)
    assert "1 new, 1 persisting, 1 mended, 1 row as before" in since_lines(decide(now), told)[0]

    assert "unfinished" not in since_lines(decide(now), told)[0]
    half = replace(then, head=replace(then.head, state=State.INTERRUPTED))
    beside_half = since((now, decide(now)), (half, decide(half)), {})
    assert "UTC, unfinished), by verdicts" in since_lines(decide(now), beside_half)[0]

    other = named(record(1), "now", "another key")
    refused = since((other, decide(other)), (then, decide(then)), {})
    assert all(row.apart is None and "references differ" in row.why for row in refused.rows)
    assert "observe --with-earlier then" in since_lines(decide(other), refused)[-1]
    pairs = {"new": np.full(6, 0.01)}
    assert since((other, decide(other)), (then, decide(then)), pairs).rows[0].apart


def test_the_commands_hold_today_against_an_earlier_record(run: Run, tmp_path: Path) -> None:
    """decide --since tells what is new; observe --with-earlier rebuilds the earlier candidate beside today's."""
    make_history(tmp_path, [(0.02, 0.02, 0.02)])
    arms = '[arms.before]\nrevision = "c0"\n[arms.after]'
    text = (tmp_path / "bystander.toml").read_text().replace("[arms.state]", arms)
    (tmp_path / "bystander.toml").write_text(text)
    write_state(tmp_path, (0.021, 0.02, 0.02))
    run("observe", "--quiet")
    write_state(tmp_path, (0.021, 0.03, 0.02))
    done = run("observe", "--with-earlier", "walk-1", "--quiet")
    document = json.loads(run("decide", "--json", "--since", "walk-1").stdout)
    jsonschema.validate(document, json.loads((ROOT / "docs" / "verdicts.schema.json").read_text()))
    ratios = {(row["arm"], row["against"]): row["ratio"] for row in document["results"] if row["primary"]}
    told = " ".join(run("decide", "--since", "walk-1").stdout.split())

    assert ratios["after", "earlier"] == pytest.approx(71 / 61, abs=0.01)
    assert ratios["earlier", "before"] == pytest.approx(61 / 60, abs=0.01)
    assert "earlier" in done.stdout
    assert "Since walk-1" in told
    assert "by the same reference in both" in told
    since_row = next(row for row in document["since"]["rows"] if row["arm"] == "after")
    assert since_row["ratio"] == pytest.approx(71 / 61, abs=0.02)
    for words, said in (
        (("decide", "walk-1", "--since", "walk-1"), "is the record that is decided"),
        (("observe", "--with-earlier", "nobody"), "no record"),
        (("observe", "--with-earlier", "walk-2"), "several candidates"),
        (("observe", "--with-earlier", "walk-1", "--", "true"), "are both given"),
        (("decide", "--since", "walk-1", "--redacted"), "do not go together"),
    ):  # fmt: skip
        assert said in run(*words, code=2).stderr, words
    git(tmp_path, "status")
