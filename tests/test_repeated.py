"""A change that is shown once, among many edits that were tried, is told apart from one that is shown twice."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest
from conftest import Run

from bystander.verdicts import RecordTests, repeated, repeated_sentence

NAMES = {"w": "walk"}


def of(number: int, way: int = 0, pair: tuple[str, str] | None = None) -> RecordTests:
    first, second = pair or (f"{number}", f"{number}+")
    return RecordTests(f"r{number}", 0.05, {(first, second, "w", "elapsed"): way})


IDLE = [of(n) for n in range(9)]


def test_from_ten_tests_on_what_is_shown_once_is_told() -> None:
    """With how many edits were shown and how many would be by luck: the risk, once for each new pair."""
    mine = of(99, 1)
    found = repeated(mine, NAMES, [*IDLE, of(9, -1)])

    assert repeated(mine, NAMES, IDLE[1:]) is None
    assert repeated(of(99, 0), NAMES, IDLE) is None
    assert found
    assert (found.edits, found.shown, found.by_luck) == (11, 2, pytest.approx(0.55))
    assert (found.once, found.twice) == (("walk",), ())
    assert repeated_sentence(found, "do it") == (
        "2 of 11 edits were shown here; about 0.5 such would be luck. Confirm:\n  do it"
    )


def test_the_same_pair_again_is_no_new_test_and_confirms_in_one_direction_only() -> None:
    """Links of one record are one batch; a pair that goes the other way is not shown twice."""
    pair = ("99", "99+")
    again = repeated(of(99, 1), NAMES, [*IDLE, of(98, 1, pair), of(97, 0, pair)])
    other = repeated(of(99, 1), NAMES, [*IDLE, of(98, -1, pair)])
    links = RecordTests("chain", 0.05, {(f"{n}", f"s{n}", "w", "elapsed"): 0 for n in range(12)})

    assert again
    assert other
    assert (again.edits, again.twice, again.once) == (10, ("walk",), ())
    assert "Shown twice" in repeated_sentence(again, "do it")
    assert other.once == ("walk",)
    assert repeated(of(99, 1), NAMES, [links]) is None


def test_a_pair_is_run_again_in_the_very_states_that_it_had(run: Run, tmp_path: Path) -> None:
    """Though the folder was edited since; and then the remark goes, in both records."""
    (tmp_path / "wait.sh").write_text("sleep 0.05\n")
    for n in range(9):
        run("observe", "--quiet", "--fixed", "6", "--arm", "a=true", "--arm", f"b=sh -c 'exit 0' {n}")
    run("observe", "--quiet", "--fixed", "6", "--arm", "a=true", "--arm", "b=sh wait.sh")
    (tmp_path / "wait.sh").write_text("true\n")
    once = json.loads(run("decide", "--json").stdout)
    assert once["repeated"]["once"] == ["command"]
    beside = tmp_path / ".bystander" / "archive.sqlite.shown"
    for damaged in ("[" * 100_000, '{"format": "bystander-shown/1", "records": 5}'):
        beside.write_text(damaged)
        run("decide")
    beside.unlink()
    os.mkfifo(beside)  # which would be waited for
    said = run("decide").stdout
    assert "bystander observe --confirm a-and-b-10" in said

    run("observe", "--quiet", "--confirm", "a-and-b-10")

    for name in ("a-and-b-10", "a-and-b-11"):
        assert json.loads(run("decide", name, "--json").stdout)["repeated"]["twice"] == ["command"]
        assert "Confirm" not in run("decide", name).stdout
    assert "--confirm runs what a record ran" in run("observe", "--confirm", "a-and-b-10", "--again", code=2).stderr
    run("observe", "--quiet", "--blocks", "6", "--", "true")
    assert "it has one arm" in run("observe", "--confirm", "true-now-1", code=2).stderr
