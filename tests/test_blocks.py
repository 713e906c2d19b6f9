"""Blocks and a budget by need: workloads with blocks of their own, and a time that is shared out among them."""

from __future__ import annotations

import json
import math
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from itertools import groupby
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from conftest import Run
from hypothesis import given, settings
from hypothesis import strategies as st

from bystander.archive import Archive
from bystander.design import (
    Arm,
    Command,
    MachineFacts,
    Record,
    Status,
    StoppingRule,
    Study,
    TrialOutcome,
    Workload,
    plan_rounds,
)
from bystander.errors import BudgetError
from bystander.field import ReadyCommand, StudyFolder
from bystander.flow.commands.observe import observe, resume
from bystander.flow.observer import Silent
from bystander.flow.sessions.session import World
from bystander.flow.trials.blocks import Clocks
from bystander.foresight import shared_blocks, steadied
from bystander.stats import Looks, RowLooks, blocks_needed, planned_looks
from bystander.verdicts import decide, study_looks


@given(st.lists(st.integers(1, 60), min_size=1, max_size=6), st.integers(0, 99))
@settings(max_examples=60)
def test_blocks_are_spread_evenly_over_the_whole_time(counts: list[int], seed: int) -> None:
    """Each workload has its blocks once and in order; between any two of them lie about as many rounds."""
    keys, rounds = [f"w{k}" for k in range(len(counts))], max(counts)
    plan = list(plan_rounds(seed, keys, ("a", "b"), counts))
    for w, count in enumerate(counts):
        mine = [block for block in plan if block.workload == w]
        assert [block.number for block in mine] == list(range(count))
        assert all(abs(block.round - (block.number + 0.5) * rounds / count) <= 1 for block in mine)
    assert [block.round for block in plan] == sorted(block.round for block in plan)
    assert len(list(groupby(plan, key=lambda block: block.round))) == rounds
    alike = [(block.workload, block.number, block.order) for block in plan_rounds(seed, keys, ("a", "b"), rounds)]
    here = [(block.workload, block.number, block.order) for block in plan]
    assert set(here) <= set(alike)  # what a block is like does not hang on how many others there are


def test_rows_are_held_to_their_own_looks() -> None:
    """Asked together, each row has what its own plan says."""
    plans = [planned_looks(40, 0.05), planned_looks(12, 0.01), planned_looks(40, 0.05), Looks((9,))]
    rows, look, p = RowLooks(plans), np.array([2, 0, 9, 0]), np.array([0.004, 0.0006, 0.02, 0.03])
    for name in ("nominal", "overall", "overall_one_sided"):
        one_by_one = [float(getattr(plan, name)(k, np.array(x))) for plan, k, x in zip(plans, look, p, strict=True)]
        assert getattr(rows, name)(look, p) == pytest.approx(one_by_one)
    assert rows.at_last(0.05) == pytest.approx([float(x.nominal(len(x.blocks) - 1, np.array(0.05))) for x in plans])
    assert rows.only([1, 3]).rows == (plans[1], plans[3])


ROOT = Path(__file__).parents[1]
ARMS = (Arm("a", in_place=True), Arm("b", in_place=True))


def workload(name: str, blocks: int | None = None) -> Workload:
    return Workload(name, name, Command(f"/bin/echo {name}"), blocks=blocks)


class Noisy:
    """Trials of which `loud` scatter by 10 %, `quiet` by 1 %, and `long` takes twenty times as long; their clock."""

    def __init__(self, folder: Path, most: float = math.inf, shift: float = 0.0) -> None:
        self.output, self.errors, self.marks = folder / "out", folder / "err", folder / "marks"
        self._chance, self._left, self._shift = np.random.default_rng(11), most, shift
        self.output.touch()
        self.errors.touch()
        self.now = 0.0

    def kill_at_once(self) -> None:
        """Nothing runs."""

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Return a trial; raise KeyboardInterrupt after so many."""
        self._left -= 1
        if self._left < 0:
            raise KeyboardInterrupt
        name = command.argv[-1]
        spread, usual = {"loud": (0.10, 0.001), "quiet": (0.01, 0.001), "long": (0.01, 0.02)}[name]
        self.now += usual
        seconds = usual * math.exp(self._chance.normal(0, spread))
        return TrialOutcome(Status.OK, 0, 0.0, 0.0, {"elapsed": seconds, "cpu": seconds})


class Listening(Silent):
    """Keeps the remarks."""

    def __init__(self) -> None:
        self.remarks: list[str] = []

    def remark(self, sentence: str) -> None:
        """Keep it."""
        self.remarks.append(sentence)


def observed(
    folder: Path, study: Study, trials: float = math.inf, budget_s: float | None = None
) -> tuple[Record, list[str]]:
    """Return a record that was interrupted after so many trials, if it was, and then finished; and the remarks."""
    listening = Listening()

    def world(most: float) -> World:
        trials = Noisy(folder, most)

        @contextmanager
        def launch(_lock: int, _interrupts: int) -> Iterator[Noisy]:
            yield trials

        clocks = Clocks(lambda: trials.now, lambda: 0.0)
        return World(launch, clocks, lambda: MachineFacts(host="gull", boot_id="first"))

    archive = folder / "a.sqlite"
    done = observe(study, StudyFolder(folder), archive, os.environ, listening, world=world(trials), budget_s=budget_s)
    if not done.complete:
        done = resume(archive, done.record, os.environ, listening, world=world(math.inf))
    assert done.complete
    with Archive(archive) as kept:
        return kept.load(done.record), listening.remarks


@pytest.mark.parametrize("trials", [math.inf, 6 + 41])
def test_each_workload_has_its_own_blocks_and_looks(tmp_path: Path, trials: float) -> None:
    """Interrupted or not; a decision replays each by its own plan."""
    workloads = (workload("loud"), workload("quiet", 12), workload("long", 20))
    study = Study("s", ARMS, workloads, seed=4, blocks=30, margin=0.001, stopping=StoppingRule.LOOKS)
    record, _ = observed(tmp_path, study, trials)
    counts = (np.bincount(record.trials.workload) // 2).tolist()
    rows = {row.workload: row for row in decide(record).primary}
    looks = dict(zip(("loud", "quiet", "long"), study_looks(study), strict=True))

    assert [plan.most for plan in looks.values()] == [30, 12, 20]
    assert counts == [30, 12, 20]
    assert {(look.workload, look.blocks) for look in record.looks} == {
        (w, n) for w, plan in enumerate(looks.values()) for n in plan.blocks
    }
    assert all(row.stop.blocks == looks[name].most for name, row in rows.items())
    assert decide(record).looks_differ


def test_what_differs_in_blocks_is_told(run: Run, tmp_path: Path) -> None:
    """Before, after, and for programs; one number for all undoes it."""
    (tmp_path / "bystander.toml").write_text(
        "blocks = 8\n[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.v]\ncommand = 'true'\n[workloads.w]\n"
        "command = 'true'\nblocks = 10\n", encoding="utf-8",
    )  # fmt: skip
    planned = run("check", "--plan-only").stdout
    run("observe", "--quiet")
    document, text = json.loads(run("decide", "--json").stdout), " ".join(run("decide").stdout.split())
    run("report", "--to", "review.md")
    page = " ".join((tmp_path / "review.md").read_text(encoding="utf-8").split())

    assert "36 trials (2 workloads, 2 arms, 8 to 10 blocks)" in " ".join(planned.split())
    schema = json.loads((ROOT / "docs" / "verdicts.schema.json").read_text(encoding="utf-8"))
    jsonschema.validate(document, schema)
    assert [look["blocks"] for look in document["stopping"]["looks_of"]["v"]][-1] == 8
    assert document["stopping"]["looks"] == document["stopping"]["looks_of"]["w"]
    assert "from a fifth to all of each workload's 8 to 10 blocks" in text
    assert "looks planned from a fifth to all of its blocks" in page
    assert "Each workload ran in at most 8 to 10 blocks" in page
    assert "bystander observe --seed" in page
    assert "--blocks" not in page.partition("bystander decide")[0].rpartition("bystander observe")[2]
    run("observe", "--quiet", "--fixed", "3")
    assert "looks_of" not in json.loads(run("decide", "--json").stdout)["stopping"]
    (tmp_path / "bystander.toml").write_text(
        "[arms.a]\n[workloads.v]\ncommand = 'true'\nblocks = 0\n", encoding="utf-8"
    )
    assert "workloads.v.blocks: 0 is no whole number from 1 to 100000" in run("check", code=2).stderr


def test_spreads_of_few_blocks_are_drawn_together() -> None:
    """One that nobody knows is typical; one from many blocks keeps its own; what never differs asks for nothing."""
    chance = np.random.default_rng(3)
    true = np.array([0.02, 0.1, 0.02, 0.1])
    found = steadied([chance.normal(0, spread, n) for spread, n in zip(true, (400, 400, 3, 3), strict=True)])
    assert found[:2] == pytest.approx(true[:2], rel=0.1)
    assert steadied([np.zeros(0), np.array([0.05, -0.05]), np.array([math.nan, 1.0])])[0] == pytest.approx(0.05)
    assert steadied([np.zeros(0)]).tolist() == [1.0]
    assert steadied([np.zeros(8)]) == pytest.approx([1e-4])
    raw = [[float(np.sqrt(np.mean(x**2))) for x in sample] for sample in (chance.normal(0, 0.05, (200, 8, 4)))]
    drawn = [steadied(list(sample)) for sample in chance.normal(0, 0.05, (200, 8, 4))]
    assert np.std(np.log(drawn)) < 0.6 * np.std(np.log(raw))  # all alike: chance is taken for chance


@given(
    st.lists(st.tuples(st.floats(0.001, 0.5), st.floats(0.001, 100)), min_size=1, max_size=8), st.floats(1, 1e5),
    st.integers(1, 9),
)  # fmt: skip
@settings(max_examples=80)
def test_a_time_is_shared_so_that_the_worst_precision_is_best(
    rows: list[tuple[float, float]], seconds: float, least: int
) -> None:
    """It fits, none has too few, and no block moved from one to another makes the worst better."""
    spreads, block_s = (np.array(column) for column in zip(*rows, strict=True))
    shares = shared_blocks(spreads, block_s, least, seconds, 5_000)
    if shares is None:
        assert least * block_s.sum() > seconds
        return
    blocks = np.array(shares.blocks)
    assert shares.seconds == pytest.approx(tuple(blocks * block_s))
    assert sum(shares.seconds) <= seconds * (1 + 1e-9)
    assert blocks.min() >= least
    worst = int(np.argmin(blocks / spreads**2))
    assert blocks[worst] == 5_000 or seconds - sum(shares.seconds) < block_s[worst] * (1 + 1e-9)
    fair = (blocks[worst] + 1) * (spreads / spreads[worst]) ** 2
    assert blocks[worst] == 5_000 or (blocks <= np.maximum(least, fair + 1)).all()


def test_many_workloads_share_a_time_in_few_numbers_of_blocks() -> None:
    """So that few plans of looks are computed; most of the time is used, and none has too few."""
    chance = np.random.default_rng(7)
    spreads, block_s = chance.uniform(0.01, 0.2, 400), chance.uniform(0.1, 3.0, 400)
    shares = shared_blocks(spreads, block_s, 9, 30_000.0, 5_000)
    assert shares is not None
    assert 24_000 < sum(shares.seconds) <= 30_000
    assert min(shares.blocks) == 9
    assert max(shares.blocks) > 80
    assert len(set(shares.blocks)) <= 40


def test_a_budget_goes_where_the_noise_is(tmp_path: Path) -> None:
    """By trial blocks at first, by the earlier record as well afterwards; the sentence says who got what."""
    study = Study("s", ARMS, (workload("loud"), workload("quiet"), workload("long")), seed=4, margin=0.001)
    (planned, remarks) = observed(tmp_path, replace(study, stopping=StoppingRule.FIXED), budget_s=4.0)
    loud, quiet, long = planned.head.study.planned_blocks
    said = next(remark for remark in remarks if remark.startswith("Blocks, by noise and cost: "))

    assert loud > 4 * quiet >= 4 * blocks_needed(3, 0.05)
    assert long < 1.5 * quiet
    assert all(f"{name} {n} (" in said for name, n in (("loud", loud), ("quiet", quiet), ("long", long)))
    assert "in 8 of 10 such studies they show changes of" in said
    assert 1.5 < loud * 0.002 + quiet * 0.002 + long * 0.04 < 4.0


def test_a_budget_that_is_too_small_says_what_eats_it_and_what_would_do(tmp_path: Path) -> None:
    """Nothing is recorded."""
    study = Study("s", ARMS, (workload("loud"), workload("quiet"), workload("long")), seed=4)
    with pytest.raises(BudgetError) as error:
        observed(tmp_path, study, budget_s=0.3)
    said = str(error.value)
    assert "can show nothing: it takes 7 at least, about" in said
    assert "most of it for long (" in said
    assert re.search(r'--budget "[1-3] s" would do', said)
    assert "so would --only loud --only quiet" in said
    with Archive(tmp_path / "a.sqlite") as kept:
        assert kept.heads() == []
