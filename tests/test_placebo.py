"""The placebo is made like the reference, apart from it; a difference on it taints the record."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from builders import made_record, noisy
from conftest import Run

from bystander.design import Arm, Command, Comparison, ComparisonPurpose, Record, Study, Workload, with_placebo
from bystander.foresight import too_few
from bystander.verdicts import Row, decide, placebo_sentence, study_looks


def record(placebo_factor: float = 1.0, blocks: int = 20, seed: int = 0, workloads: int = 3) -> Record:
    """Return a record of some workloads that the candidate makes a tenth slower."""
    return made_record(
        {
            f"w{i}": {
                "before": noisy(blocks, 0.1, 0.02, 100 * seed + 3 * i),
                "after": noisy(blocks, 0.11, 0.02, 100 * seed + 3 * i + 1),
                "placebo": noisy(blocks, 0.1 * placebo_factor, 0.02, 100 * seed + 3 * i + 2),
            }
            for i in range(workloads)
        }
    )


def without(placebo: Record) -> Record:
    """Return the same record as if it had no placebo."""
    head, trials = placebo.head, placebo.trials
    names = [arm.name for arm in head.study.arms]
    kept = trials.arm != names.index("placebo")
    values = trials.readings[:, 0]
    readings = {
        w.name: {
            arm: values[kept & (trials.workload == i) & (trials.arm == names.index(arm))].tolist()
            for arm in ("before", "after")
        }
        for i, w in enumerate(head.study.workloads)
    }
    return made_record(readings)


def numbers(row: Row) -> tuple[object, ...]:
    return row.workload, row.verdict, row.estimate, row.low, row.high, row.p_adjusted, row.e_adjusted


def test_a_silent_placebo_changes_nothing_but_what_is_said_of_it() -> None:
    """The rows, their adjustment and the number of comparisons are those of the record without it."""
    with_one, alone = decide(record()), decide(without(record()))

    assert [numbers(row) for row in with_one.primary] == [numbers(row) for row in alone.primary]
    assert with_one.comparisons == alone.comparisons == 3
    assert list(with_one.candidates) == ["after"]
    assert not with_one.tainted
    assert [row.verdict for row in with_one.placebo] == ["unclear"] * 3
    assert placebo_sentence(with_one).startswith("The placebo shows no difference; its widest 99 % intervals: w")


def test_a_placebo_that_differs_taints_the_record() -> None:
    """It stands above everything else, with the workloads that show it."""
    decision = decide(record(1.08))

    assert decision.tainted
    assert decision.notes[0].code == "placebo-tainted"
    assert "w0 slower, w1 slower, w2 slower" in decision.notes[0].text
    assert placebo_sentence(decision).startswith("The placebo: w0 slower by ")


def test_a_placebo_that_fails_more_often_taints_too() -> None:
    """The same, made twice, should fail alike."""
    values = {arm: noisy(20, 0.1, 0.02, i) for i, arm in enumerate(("before", "after", "placebo"))}
    failing = made_record({"w": values}, failed={("w", "placebo"): range(12)})
    reference = made_record({"w": values}, failed={("w", "before"): range(20), ("w", "placebo"): range(20)})

    assert decide(failing).tainted
    assert not decide(reference).tainted


def test_luck_taints_one_record_in_a_hundred() -> None:
    """Where the placebo is the same, Holm at 1 % over its rows taints 1 % of records at most."""
    tainted = sum(decide(record(seed=seed, blocks=16, workloads=4)).tainted for seed in range(400))

    assert tainted <= 11  # 4 expected; more than 11 in less than one campaign of a thousand


def test_a_placebo_has_spoken_before_its_workload_leaves() -> None:
    """A row decided at once goes on to the first look at which the placebo, different in every block, taints."""
    values = {"before": noisy(40, 0.1, 0.01, 1), "after": noisy(40, 0.2, 0.01, 2), "placebo": noisy(40, 0.11, 0.01, 3)}
    many = {f"w{i}": values for i in range(3)}
    lone, together = (
        replace(full, head=replace(full.head, study=replace(full.head.study, stopping="looks")))
        for full in (made_record({"w": values}), made_record(many))
    )
    without = replace(lone.head.study, arms=lone.head.study.arms[:2])

    assert study_looks(without)[0].blocks[0] == 8
    assert study_looks(lone.head.study)[0].blocks[0] == 10
    assert study_looks(together.head.study)[0].blocks[0] == 12
    for record_of in (lone, together):
        decision = decide(record_of)
        assert {row.stop.blocks for row in decision.rows if row.primary} == {
            study_looks(record_of.head.study)[0].blocks[0]
        }
        assert decision.tainted


def test_too_few_blocks_for_the_placebo_are_said_before() -> None:
    """With three workloads the least p of nine blocks, 0.4 %, is above a third of 1 %; that of ten is below."""
    study = with_placebo(
        Study("s", (Arm("before"), Arm("after")), tuple(Workload(w, w, Command("true")) for w in "abc"), blocks=9)
    )

    assert ["it takes 10 at least" in sentence for sentence in too_few(study)] == [True]
    assert too_few(replace(study, blocks=10)) == []


def test_an_arm_is_added_once_and_last() -> None:
    """The placebo repeats the reference in all but its name."""
    study = Study("s", (Arm("before", settings={"x": "1"}), Arm("after")), (Workload("w", "w", Command("true")),))
    twice = with_placebo(with_placebo(study))
    control = Comparison(0, 2, ComparisonPurpose.CONTROL)

    assert [arm.name for arm in twice.arms] == ["before", "after", "placebo"]
    assert twice.arms[2].settings == {"x": "1"}
    assert (twice.control, twice.comparisons, twice.planned_rows) == (control, (Comparison(0, 1),), 1)


@pytest.mark.parametrize("git_too", [True, False])
def test_a_set_up_that_depends_on_its_place_is_found(run: Run, tmp_path: Path, git: object, git_too: bool) -> None:
    """The placebo has a folder and a build of its own, and every output says that they made a difference."""
    (tmp_path / "bystander.toml").write_text(
        """
blocks = 12
seed = 5
risk = 0.001
placebo = true
[arms.before]
folder = "old"
build = ["sh -c 'echo built >> builds; case $PWD in */.bystander/*) touch slow;; esac'"]
[arms.after]
folder = "old"
build = ["sh -c 'echo built >> builds; case $PWD in */.bystander/*) touch slow;; esac'"]
settings.n = 2
[workloads.w]
command = "sh -c 'if test -e slow; then sleep 0.03; fi; cat builds'"
answer = "output"
""",
        encoding="utf-8",
    )
    (tmp_path / "old").mkdir()
    if git_too:
        git("init", "-q")  # type: ignore[operator]
    said = " ".join(run("observe", "--quiet").stdout.split())
    document = json.loads(run("decide", "--json").stdout)
    gate = run("decide", "--gate", "slower", code=1).stderr
    assert run("decide", "--gate", "slower,tainted", code=3)
    run("report", "--to", "r.md")
    run("report", "--to", "r.html")

    assert "TAINTED" in said
    assert "made a second time, apart" in run("records", "show").stdout.replace("\n", " ")
    assert document["tainted"]
    assert document["placebo"][0]["verdict"] == "slower"
    assert document["candidates"] == ["after"]
    for text in (
        gate, run("records", "list").stdout, run("records", "show").stdout,
        (tmp_path / "r.md").read_text(encoding="utf-8"), (tmp_path / "r.html").read_text(encoding="utf-8"),
    ):  # fmt: skip
        assert "TAINTED" in text
    assert not (tmp_path / "old" / "slow").exists()


def test_a_placebo_needs_no_study(run: Run, tmp_path: Path) -> None:
    """One command by itself can be held against itself; it then runs twice in the same folder."""
    run("observe", "--quiet", "--placebo", "--blocks", "12", "--", "true")
    document = json.loads(run("decide", "--json").stdout)

    assert document["results"] == []
    assert document["placebo"][0]["candidate"]["trials"] == 12
    assert np.isfinite(document["placebo"][0]["ratio"])
    assert 'placebo: "yes" is neither true nor false' in _wrong(run, tmp_path)


def _wrong(run: Run, tmp_path: Path) -> str:
    (tmp_path / "bystander.toml").write_text(
        'placebo = "yes"\n[arms.a]\n[workloads.w]\ncommand = "true"\n', encoding="utf-8"
    )
    return run("check", code=2).stderr
