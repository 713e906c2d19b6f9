"""How places grow with an input: exponents that hold the truth, exact counts, and what grows faster than the rest."""

from __future__ import annotations

import json
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from conftest import Run
from test_within import COUNTS, FIT, MAIN, PLAN, stacks

from bystander.evidence import grown
from bystander.stats import block_exponents, count_exponent, exponent_of

SCHEMA = json.loads((Path(__file__).parents[1] / "docs" / "within.schema.json").read_text(encoding="utf-8"))
SIZES = np.array([100.0, 200.0, 400.0, 800.0])


@pytest.mark.parametrize(("curve", "truth"), [("n", 1.0), ("n^2", 2.0), ("n log n", None)])
def test_intervals_hold_the_exponent_as_often_as_they_say(curve: str, truth: float | None) -> None:
    """94 % and more, with noise of trials and of blocks; of n log n the slope of the true values over these sizes."""
    values = {"n": SIZES, "n^2": SIZES**2, "n log n": SIZES * np.log(SIZES)}[curve]
    truth = truth or float(np.polyfit(np.log(SIZES), np.log(values), 1)[0])
    draw = np.random.default_rng(11)
    noise = draw.normal(0, 0.05, (1500, 4, 6)) + draw.normal(0, 0.2, (1500, 1, 6))
    slopes = block_exponents(SIZES, values[:, None] * np.exp(noise))
    found = [exponent_of(one, 0.05) for one in slopes]

    assert np.mean([one.low <= truth <= one.high for one in found]) >= 0.94 - 2 * np.sqrt(0.05 * 0.95 / 1500)
    assert np.mean([one.exponent for one in found]) == pytest.approx(truth, abs=0.002)


def test_counts_grow_exactly() -> None:
    """A power is told exactly; else between the slopes of neighbouring sizes."""
    exact = count_exponent(SIZES, SIZES**2)
    assert (exact.exponent, exact.low, exact.high) == (pytest.approx(2), pytest.approx(2), pytest.approx(2))
    bent = count_exponent(SIZES, SIZES * np.log2(SIZES))
    assert bent.low < bent.exponent < bent.high
    assert exponent_of(np.array([1.5]), 0.05).low == -np.inf


def test_what_grows_faster_than_the_rest_is_found() -> None:
    """By time over blocks; a place that is not seen at small sizes is told from there on where it is."""
    draw = np.random.default_rng(5)

    def trial(n: int) -> object:
        noise = np.exp(draw.normal(0, 0.02, 3))
        late = [([(MAIN, 1), (PLAN, 2)], round(n * noise[2]))] if n > 100 else []
        main, fit = round(10 * n * noise[0]), round(n * n / 40 * noise[1])
        return stacks([([(MAIN, 1)], main), ([(MAIN, 1), (FIT, 2)], fit), *late])

    trials = [[trial(int(n)) for _ in range(6)] for n in SIZES]
    whole, places = grown(SIZES.tolist(), trials, [[COUNTS, COUNTS]] * 4, "elapsed", 0.05)  # type: ignore[arg-type]
    by_place = {one.place: one for one in places}

    assert places[0].place == FIT
    assert by_place[FIT].faster
    assert not by_place[PLAN].faster
    assert by_place[FIT].exponent is not None
    assert by_place[FIT].exponent[1] < 2 < by_place[FIT].exponent[2]
    assert by_place[PLAN].since == 1
    assert whole.exponent is not None
    assert 1 < whole.exponent[0] < 2
    halved, _ = grown(SIZES.tolist(), trials, [], "elapsed", 0.05, [2] * 4)  # type: ignore[arg-type]
    assert halved.seconds == pytest.approx([seconds / 2 for seconds in whole.seconds])
    assert by_place[FIT].calls == (402,) * 4
    assert by_place[FIT].calls_exponent == (pytest.approx(0), pytest.approx(0), pytest.approx(0))


PROGRAM = """
import sys
def pairs(n):
    return sum(step(i, j) for i in range(n) for j in range(n))
def step(i, j): return i ^ j
print(pairs(int(sys.argv[1])))
"""


def test_a_command_is_watched_at_some_sizes(run: Run, tmp_path: Path) -> None:
    """Through the program: exponents, the same again, as a document; what makes no sense is told."""
    (tmp_path / "grow.py").write_text(PROGRAM, encoding="utf-8")
    words = ("--inputs", "n=100,200,400", "--trials", "2", "--quiet", "--", "python3", "grow.py", "{n}")
    said = run("inspect", *words).stdout
    assert "python3 under now, n = 100, 200, 400" in said
    assert "2 blocks: fewer than 6 cannot show" in " ".join(said.split())
    document = json.loads(run("leads", "--growth", "--json").stdout)
    jsonschema.validate(document, SCHEMA)
    step = next(one for one in document["growth"]["places"] if one["place"]["label"] == "grow.step")
    assert step["calls"] == [10_000, 40_000, 160_000]
    assert step["calls_exponent"] == {"mean": pytest.approx(2), "low": pytest.approx(2), "high": pytest.approx(2)}
    for words, told in (
        (("--inputs", "n=1,2", "--", "python3", "grow.py", "{n}"), "how it grows takes three at least"),
        (("--inputs", "n=1,2,x", "--", "python3", "grow.py", "{n}"), '"x" is no number'),
        (("--inputs", "m=1,2,3", "--", "python3", "grow.py", "{n}"), "the command does not use m"),
        (("--inputs", "n=1,2,3", "--order", "calls", "--", "true"), "--order does not apply"),
        (("--inputs", "n=1,2,3"), "a record has the sizes of its study"),
        (("--inputs", "k"), 'no workload has an input "k"; inputs are n'),
    ):  # fmt: skip
        assert told in run("inspect", *words, code=2).stderr
    assert "--down does not apply" in run("leads", "--growth", "--down", code=2).stderr


def test_the_published_figures_keep_what_is_promised() -> None:
    """Intervals hold the truth in 94 %; at most 5 % call anything wrongly, but for the error of measuring."""
    text = (Path(__file__).parents[1] / "docs" / "validation-growth.md").read_text(encoding="utf-8")
    assert "full form" in text
    tables = [line for line in text.splitlines() if line.startswith("| ")]
    rows = [[cell.strip() for cell in line.strip("|").split("|")] for line in tables]
    held = [float(row[3].split()[0]) for row in rows if row[2] == "20000"]
    wrong = [float(row[2].split()[0]) for row in rows if row[1] == "2000"]
    assert (len(held), len(wrong)) == (18, 12)
    assert min(held) >= 94
    assert max(wrong) <= 5 + 3 * 0.5
