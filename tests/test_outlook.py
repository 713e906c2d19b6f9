"""What a study could show, how much fits in a budget, and how long it still takes: each held against what then came."""

from __future__ import annotations

import json
import math
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from builders import made_record, noisy
from conftest import Run
from numpy.typing import NDArray

from bystander.archive import Archive
from bystander.design import (
    Arm,
    BlockRun,
    Command,
    Comparison,
    MachineFacts,
    Status,
    Study,
    TrialOutcome,
    Workload,
    workload_key,
)
from bystander.errors import UsageError
from bystander.field import ReadyCommand, StudyFolder
from bystander.flow.commands.observe import World, observe
from bystander.flow.observer import Silent
from bystander.flow.trials.blocks import Clocks
from bystander.foresight import Pace, TrialBlock, measure_advice, outlooks, record_noise, tried_noise
from bystander.stats import (
    Looks,
    blocks_for_shift,
    examine,
    fixed_look,
    planned_looks,
    smallest_shown,
    walsh_contrasts,
)
from bystander.verdicts.compared.row_trials import block_seconds, row_trials

ROOT = Path(__file__).parents[1]


def share_shown(real: NDArray[np.float64], looks: Looks, level: float, margin: float) -> float:
    """Return the share of studies, one a row, that show a change at one of their looks."""
    shown = np.zeros(real.shape[0], dtype=bool)
    for look, blocks in enumerate(looks.blocks):
        seen = examine(walsh_contrasts(real[:, :blocks], real[:, :blocks]), np.zeros(real.shape[0]))
        beyond = (seen.estimate > margin) | (blocks == looks.most)
        shown |= (looks.overall(look, seen.p) <= level) & beyond & (seen.leans > 0)
    return float(shown.mean())


@pytest.mark.parametrize(("tried", "blocks", "level"), [(4, 20, 0.05 / 7), (6, 10, 0.05), (8, 40, 0.01)])
@pytest.mark.parametrize("early", [True, False])
def test_what_was_foretold_comes_true(tried: int, blocks: int, level: float, early: bool) -> None:
    """Of studies with the change that was called the smallest to be shown, about 8 of 10 show it."""
    chance = np.random.default_rng(3)
    looks, margin = (planned_looks(blocks, level), 0.01) if early else (fixed_look(blocks), 0.0)
    shown = []
    for seed in range(100):
        shift = smallest_shown(chance.normal(0, 0.02, tried), looks, level, margin, seed)
        shown.append(share_shown(chance.normal(shift, 0.02, (8, blocks)), looks, level, margin))

    assert 0.75 <= np.mean(shown) <= 0.89


def test_so_many_blocks_show_a_given_change() -> None:
    """Of studies of the blocks that were foretold, about 8 of 10 show the change; twice the noise takes four times."""
    chance = np.random.default_rng(9)
    shown, needed = [], []
    for seed in range(20):
        noise = chance.normal(0, 0.03, 8)

        def planned(most: int) -> Looks:
            return planned_looks(most, 0.05)

        blocks, four = (blocks_for_shift(k * noise, 0.03, 0.05, 0.01, planned, seed) for k in (1.0, 2.0))
        needed.append(four / blocks)
        real = chance.normal(0.03, 0.03, (8, int(blocks)))
        shown.append(share_shown(real, planned_looks(int(blocks), 0.05), 0.05, 0.01))

    assert 0.72 <= np.mean(shown) <= 0.89
    assert np.median(needed) == pytest.approx(4, rel=0.15)
    assert blocks_for_shift(np.zeros(8), 0.03, 0.05, 0.01, planned) == 6
    assert np.isnan(blocks_for_shift(np.zeros(2), 0.03, 0.05, 0.01, planned))


def test_more_blocks_show_less_and_too_few_show_nothing() -> None:
    """The smallest change shrinks with the blocks; degenerate noise has defined answers."""
    noise = np.random.default_rng(1).normal(0, 0.02, 6)
    by_blocks = [smallest_shown(noise, fixed_look(n), 0.01) for n in (10, 20, 40, 80, 160)]

    assert by_blocks == sorted(by_blocks, reverse=True)
    assert by_blocks[3] / by_blocks[4] == pytest.approx(2**0.5)
    assert smallest_shown(noise, fixed_look(4), 0.01) == np.inf
    assert smallest_shown(np.zeros(6), fixed_look(20), 0.01) == 0
    assert np.isnan(smallest_shown(np.array([0.1, np.nan, 0.2]), fixed_look(20), 0.01))


def twins(
    cpu_spread: float, elapsed_spread: float, computing: float, seed: int, unqueued_spread: float = 0.0
) -> list[TrialBlock]:
    """Return eight trial blocks with so much scatter of each time; without the last it is not known."""
    chance = np.random.default_rng(seed)

    def one() -> TrialOutcome:
        elapsed, cpu = np.exp(chance.normal(0, (elapsed_spread, cpu_spread)))
        read = {"elapsed": float(elapsed), "cpu": float(cpu) * computing}
        if unqueued_spread:
            read["unqueued"] = float(np.exp(chance.normal(0, unqueued_spread)))
        return TrialOutcome(Status.OK, 0, 0.0, 0.0, read)

    return [TrialBlock(0, (one(), one()), 1.0) for _ in range(8)]


@pytest.mark.parametrize(
    ("spreads", "computing", "words"),
    [
        ((0.01, 0.05), 0.9, "CPU time is the wiser measure here"),
        ((0.05, 0.03), 0.9, "Elapsed time is the wiser measure here: CPU time would show"),
        ((0.01, 0.05), 0.2, "wait more than they compute"),
        ((0.01, 0.05, 0.01), 0.2, "Elapsed time less the run queue is the wiser measure here"),
        ((0.03, 0.05, 0.01), 0.9, 'measure = "unqueued"'),
        ((0.005, 0.05, 0.03), 0.9, 'measure = "cpu"'),
    ],
)
def test_the_wiser_measure_is_said_with_its_reason(spreads: tuple[float, ...], computing: float, words: str) -> None:
    """CPU time pays where others disturb and the workload computes, never where it waits; the queue may be left out."""
    study = Study("s", (Arm("a"), Arm("b")), (Workload("w", "w", Command("true")),))
    found = outlooks(study, tried_noise(study, twins(*spreads[:2], computing, 2, *spreads[2:]), ()))

    assert measure_advice(study, found).startswith(words) or words in measure_advice(study, found)


@pytest.mark.parametrize("with_placebo", [False, True])
def test_an_earlier_record_tells_the_noise_without_its_change(with_placebo: bool) -> None:
    """Half as fast and with a failed block: the spread of the differences is that of the same code, cpu time too."""
    arms = ("before", "after", "placebo") if with_placebo else ("before", "after")
    pace = {"before": 1.0, "after": 2.0, "placebo": 1.0}
    times = {arm: noisy(60, pace[arm], 0.03, k) for k, arm in enumerate(arms)}
    cpu = {arm: noisy(60, pace[arm] / 4, 0.01, 10 + k) for k, arm in enumerate(arms)}
    made = made_record({"w": times}, more={"cpu": {"w": cpu}}, failed={("w", arms[-1]): [7]})
    workload = made.head.study.workloads[0]
    made = replace(made, head=replace(made.head, workload_keys=(workload_key(workload),)))
    other = Workload("other", "other", Command("sleep 1"))
    study = Study("s", tuple(map(Arm, "abcd")), (other, workload), blocks=24)
    (noise,) = record_noise(study, made)
    twin = np.log(times[arms[-1]]) - np.log(times["before"])
    twin = np.delete(twin - np.median(twin) * (not with_placebo), 7)

    assert noise.workload == 1
    assert noise.differences.keys() == {"elapsed", "cpu"}
    assert noise.differences["elapsed"].size == 59
    assert noise.differences["elapsed"] == pytest.approx(twin, abs=0.012)
    assert np.std(noise.differences["cpu"]) == pytest.approx(0.01 * np.sqrt(2), rel=0.25)
    assert noise.computing == pytest.approx(0.25, rel=0.02)
    one = outlooks(study, [noise])[0]
    assert one.by_elapsed == pytest.approx(3 * one.by_cpu, rel=0.4)
    assert np.isnan(one.by_unqueued)


def test_a_block_takes_as_long_as_its_trials() -> None:
    """Arms of very different lengths, in either order: the typical seconds of both, as often as one comes first."""
    trials = made_record({"w": {"before": [1.0] * 9, "after": [5.0] * 9}}).trials
    starts, clock = np.zeros(trials.block.size), 1e9
    for block in range(9):
        mine = np.flatnonzero(trials.block == block)
        for row in mine[np.argsort(trials.order[mine])].tolist():
            starts[row] = clock
            clock += 1.0 if trials.arm[row] == 0 else 5.0
    record = made_record({"w": {"before": [1.0] * 9, "after": [5.0] * 9}})
    record = replace(record, trials=replace(trials, started_s=starts))

    assert block_seconds(record, row_trials(record, Comparison(0, 1))[0]) == pytest.approx(6.0)


def test_check_plans_from_an_earlier_record(run: Run, tmp_path: Path) -> None:
    """Nothing is run for it; a plan says that there is such a record, and wrong ones are one sentence."""
    file = tmp_path / "bystander.toml"
    text = '[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.w]\ncommand = "{command}"\n'
    file.write_text(text.format(command="sleep 0.01"), encoding="utf-8")
    before = run("check", "--plan-only").stdout
    run("observe", "--quiet", "--fixed", "8")
    hint = " ".join(run("check", "--plan-only").stdout.split())
    asked = ("check", "--noise-of", "unnamed-study-1", "--change", "5 %")
    planned = json.loads(run(*asked, "--plan-only", "--json").stdout)
    shown = " ".join(run(*asked).stdout.split())
    file.write_text(text.format(command="sleep 0.02"), encoding="utf-8")

    described = (ROOT / "docs" / "formats.md").read_text(encoding="utf-8")
    assert {key for key in (*planned, *planned["outlook"][0]) if f"`{key}`" not in described} <= {
        "format", "version", "workload",
    }  # fmt: skip
    assert "--noise-of" not in before
    assert "--noise-of unnamed-study-1" in hint
    assert planned["trials"] == []
    assert planned["noise_of"] == "unnamed-study-1"
    assert planned["outlook"][0]["blocks_for_change"] > 0
    assert planned["outlook"][0]["seconds_for_change"] > 0.02 * planned["outlook"][0]["blocks_for_change"]
    assert "Simulated from the noise of record unnamed-study-1" in shown
    assert "that takes three blocks of two arms" in run(*asked, code=2).stderr
    assert "give one of them" in run(*asked, "--placebo-blocks", "4", code=2).stderr
    assert "there is no record" in run("check", "--noise-of", "none", code=2).stderr


def test_a_table_too_wide_is_parted(run: Run, tmp_path: Path) -> None:
    """Many arms: what each took, then what could be shown; nothing is cut, at any width."""
    arms = "".join(f'[arms.state-{k}]\nsettings.n = "{k}"\n' for k in range(5))
    (tmp_path / "bystander.toml").write_text(
        arms + '[workloads.w]\ncommand = "sleep 0.01"\n[workloads.v]\ncommand = "false"\n', encoding="utf-8"
    )
    lines = run("check", "--placebo-blocks", "3", code=1, COLUMNS="80").stdout.splitlines()
    heads = [line.split() for line in lines if line.startswith("workload")]
    row = " ".join(lines[lines.index(next(line for line in lines if line.startswith("w "))) :][:2])

    assert heads[0] == ["workload", "once", "answers"]
    assert heads[1] == ["workload", "could", "show", "for", "3", "%"]
    assert all(f"state-{k}" in row for k in range(5))
    assert [line.split()[1:] for line in lines if line.startswith("v ")][1] == ["unknown", "unknown"]
    assert "…" not in "".join(lines)
    assert max(map(len, lines)) <= 80


def test_time_left_is_right_within_a_fifth_after_a_tenth() -> None:
    """Workloads of very different lengths, trials that scatter by a seventh, and a first guess that was far off."""
    chance = np.random.default_rng(5)
    workloads = tuple(Workload(f"w{i}", f"w{i}", Command("true")) for i in range(6))
    study = Study("s", (Arm("a"), Arm("b")), workloads, blocks=40)
    lengths = 0.05 * 2.0 ** np.arange(6)
    for _ in range(20):
        times = lengths[None, :] * chance.lognormal(0, 0.15, (40, 6))
        pace = Pace(study, ())
        for number in range(4):
            for w in range(6):
                pace.add(BlockRun(w, number, 0, 0, {}, dict.fromkeys((0, 1), ended(0.1)), times[number, w]))

        assert pace.left_s == pytest.approx(times[4:].sum(), rel=0.2)


def ended(seconds: float) -> TrialOutcome:
    return TrialOutcome(Status.OK, 0, 1e9, 1.0, {"elapsed": seconds, "cpu": seconds / 2})


class Listening(Silent):
    """Keeps the remarks."""

    def __init__(self) -> None:
        self.remarks: list[str] = []

    def remark(self, sentence: str) -> None:
        """Keep it."""
        self.remarks.append(sentence)


class Steady:
    """Trials that say they took so long, at once."""

    def __init__(self, output: Path, seconds: float) -> None:
        self.output, self.seconds = output, seconds
        self.marks = output.with_name("marks")
        self.trials = 0
        output.touch()

    def kill_at_once(self) -> None:
        """Nothing runs."""

    def run(self, _command: ReadyCommand) -> TrialOutcome:
        """Return a trial."""
        self.trials += 1
        return ended(self.seconds)


def budgeted(folder: Path, budget_s: float, seconds: float) -> tuple[Study, list[str], Steady]:
    """Return the study as it was recorded, the remarks, and what ran."""
    listening, ran = Listening(), Steady(folder / "output", seconds)

    @contextmanager
    def launch(_lock: int, _interrupts: int) -> Iterator[Steady]:
        yield ran

    arms = (Arm("a", in_place=True), Arm("b", in_place=True))
    study = Study("s", arms, (Workload("w", "w", Command("/bin/true")),), seed=1)
    world = World(launch, Clocks(offset=lambda: 0.0), MachineFacts)
    observe(study, StudyFolder(folder), folder / "a.sqlite", os.environ, listening, budget_s=budget_s, world=world)
    with Archive(folder / "a.sqlite") as kept:
        return kept.head().study, listening.remarks, ran


def test_a_budget_that_cannot_hold_one_block_is_refused(tmp_path: Path) -> None:
    """The sentence says how long a block takes."""
    with pytest.raises(UsageError, match="takes about 20 s"):
        budgeted(tmp_path, 5.0, 10.0)


def test_a_budget_sets_the_blocks_once_and_says_what_they_show(run: Run, tmp_path: Path) -> None:
    """The record holds the number; the whole command takes about as long as it was given."""
    (tmp_path / "bystander.toml").write_text(
        '[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.w]\ncommand = "sleep 0.02"\n', encoding="utf-8"
    )
    done = run("observe", "--budget", "3 s")
    shown = json.loads(run("decide", "--json").stdout)["results"][0]

    assert re.search(r"note: \d+ blocks fit in", done.stderr)
    assert re.search("in 8 of 10 such studies they show changes of|what they can show is not known", done.stderr)
    assert 8 <= shown["blocks"] <= 75  # of 40 ms or more each
    assert '"soon" is no duration' in run("observe", "--budget", "soon", code=2).stderr
    assert "both given" in run("observe", "--budget", "3 s", "--blocks", "3", code=2).stderr
    assert "does not apply" in run("observe", "--resume", "--budget", "3 s", code=2).stderr


def test_check_says_what_could_be_shown(run: Run, study: Path) -> None:
    """Each workload has its smallest change; without a run there is none, and nothing is run."""
    told = json.loads(run("check", "--json", "--placebo-blocks", "4").stdout)
    shown = run("check", "--placebo-blocks", "3").stdout
    marker = study.with_name("ran")
    study.write_text(
        f'[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.w]\ncommand = "touch {marker}"\n', encoding="utf-8"
    )
    planned = json.loads(run("check", "--plan-only", "--json").stdout)

    assert [one["workload"] for one in told["outlook"]] == ["say", "wait"]
    assert all(0 < one["smallest_shown"] < 149 for one in told["outlook"])  # a stall may widen it
    assert told["placebo_blocks"] == 4
    assert "Could show: the smallest change that 7 blocks would show" in shown
    assert (planned["trials"], planned["outlook"], planned["expected_s"]) == ([], [], None)
    assert planned["commands"][0]["command"] == ["touch", str(marker)]
    assert not marker.exists()
    assert "3 or more" in run("check", "--placebo-blocks", "2", code=2).stderr


def test_blocks_for_a_shift_show_it_and_hardly_fewer_would() -> None:
    """At the most blocks that are told the smallest change shown is the shift; unknown noise gives no number."""
    noise = np.random.default_rng(3).normal(0, 0.05, 8)
    blocks = blocks_for_shift(noise, 0.04, 0.05, 0.01, lambda most: planned_looks(most, 0.05), seed=2)
    at = smallest_shown(noise, planned_looks(int(blocks), 0.05), 0.05, 0.01, seed=2)

    assert at == pytest.approx(0.04, rel=0.06)
    assert blocks_for_shift(noise, 1e-6, 0.05, 0.0, lambda most: planned_looks(most, 0.05)) == math.inf
    assert math.isnan(blocks_for_shift(np.array([np.nan] * 4), 0.04, 0.05, 0.0, lambda most: planned_looks(most, 0.05)))
    assert (
        blocks_for_shift(noise, 5.0, 0.05, 0.0, lambda most: planned_looks(most, 0.05)) == 6
    )  # the fewest that can show
