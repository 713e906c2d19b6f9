"""Slow trials are caught, and held against typical ones place by place."""

from __future__ import annotations

import json
import signal
import subprocess
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from conftest import PROGRAM, Run
from test_within import FIT, MAIN, PLAN, SORT, stacks

from bystander.evidence import slow_places
from bystander.stats import apart, regrouped

SCHEMA = json.loads((Path(__file__).parents[1] / "docs" / "within.schema.json").read_text(encoding="utf-8"))


def test_what_lies_apart_is_found() -> None:
    """Beyond three robust spreads and a twentieth of the median; a plain spread holds none."""
    draw = np.random.default_rng(2)
    values = 0.1 * np.exp(draw.normal(0, 0.02, 60))
    values[[3, 30]] = 0.15
    end, slow = apart(values)
    assert np.flatnonzero(slow).tolist() == [3, 30]
    deviation = np.median(np.abs(values - np.median(values)))
    assert end == pytest.approx(np.median(values) + 3 * 1.4826 * deviation)
    assert apart(np.full(9, 0.1)) == (pytest.approx(0.105), pytest.approx(np.zeros(9, dtype=bool)))


def test_groups_that_are_alike_are_rarely_called_different() -> None:
    """At most the risk over all places together; a true difference is found, with its size."""
    draw = np.random.default_rng(4)
    wrong = 0
    for seed in range(120):
        values = np.exp(draw.normal(0, 0.1, (8, 30)) + draw.normal(0, 0.2, 30))  # a trial slows all of them
        wrong += bool(regrouped(values, np.arange(30) < 7, 0.05, seed).shown.any())
    assert wrong / 120 <= 0.05 + 2 * np.sqrt(0.05 * 0.95 / 120)
    values = draw.normal(1, 0.05, (5, 30))
    values[2, :7] += 1
    found = regrouped(values, np.arange(30) < 7, 0.05, 1)
    assert found.shown.tolist() == [False, False, True, False, False]
    assert found.low[2] < 1 < found.high[2]
    assert regrouped(values, np.arange(30) < 1, 0.05, 1).high[0] == np.inf
    again = regrouped(values, np.arange(30) < 7, 0.05, 1)
    assert (again.p == found.p).all()


def test_slow_trials_differ_where_they_are_slow() -> None:
    """Parts sum to the whole; libraries count with the place that calls them."""
    draw = np.random.default_rng(9)
    slow = np.arange(24) % 4 == 0
    trials = [
        stacks([
            ([(MAIN, 1)], 30 + round(draw.normal(0, 1))), ([(MAIN, 1), (PLAN, 2)], 20 + round(draw.normal(0, 1))),
            ([(MAIN, 1), (FIT, 3), (SORT, 1)], (50 if late else 10) + round(draw.normal(0, 1))),
        ])
        for late in slow.tolist()
    ]  # fmt: skip
    whole, places, _ = slow_places(trials, slow, "elapsed", 0.05, 1)

    assert [one.place for one in places if one.seconds.shown] == [FIT]
    assert places[0].seconds.change_s == pytest.approx(0.04, abs=0.002)
    assert sum(one.seconds.change_s for one in places) == pytest.approx(whole.change_s)
    assert sum(one.seconds.before_s for one in places) == pytest.approx(whole.before_s)
    assert SORT not in [one.place for one in places]


TAIL = """
import os, time
def lock():
    time.sleep(1.2)
def work():
    time.sleep(0.02)
count = len(os.listdir("runs"))
open(f"runs/{count}", "w").close()
work()
if count % 4 == 3: lock()
"""


def test_slow_trials_of_a_command_are_caught(run: Run, tmp_path: Path) -> None:
    """Through the program: every fourth trial waits; the same again, as a document; what makes no sense is told."""
    (tmp_path / "tail.py").write_text(TAIL, encoding="utf-8")
    (tmp_path / "runs").mkdir()
    words = ("--slow", "--slower-than", "700 ms", "--trials", "12", "--quiet", "--", "python3", "tail.py")
    said = " ".join(run("inspect", *words).stdout.split())
    assert "12 trials watched" in said
    assert "lie in tail.lock" in said
    assert "Waits that grew, for: sleep" in said
    document = json.loads(run("leads", "--slow", "--json").stdout)
    jsonschema.validate(document, SCHEMA)
    assert document["slow"]["slow"] >= 3
    assert document["slow"]["places"][0]["place"]["label"] == "tail.lock"
    for command, words, told in (
        ("inspect", ("--slower-than", "1 s"), "--slower-than goes with --slow"),
        ("inspect", ("--slow", "--counts"), "--counts does not apply"),
        ("leads", ("--slow", "--lines", "x"), "--lines does not apply"),
        ("leads", ("--slow", "--only", "nothing"), "bystander inspect --slow catches some"),
    ):  # fmt: skip
        assert told in run(command, *words, code=2).stderr


def test_an_interrupt_keeps_what_was_whole(tmp_path: Path) -> None:
    """It is shown, and ends with 130; the trials are there afterwards."""
    (tmp_path / "tail.py").write_text("import time; time.sleep(0.02)", encoding="utf-8")
    words = [str(PROGRAM), "inspect", "--slow", "--", "python3", "tail.py"]
    process = subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert process.stderr
    for line in process.stderr:
        if line.startswith("20 trials"):
            break
    process.send_signal(signal.SIGINT)
    said, errors = process.communicate(timeout=60)
    assert process.returncode == 130
    assert "what was whole by then is kept" in errors
    assert "trials watched" in said
