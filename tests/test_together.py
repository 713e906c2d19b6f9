"""Pairs of records from elsewhere: trials that ran hours apart are none, whatever number their block has."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from builders import made_record, noisy
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import Comparison, Record, block_order
from bystander.verdicts import Row, decide
from bystander.verdicts.compared.row_trials import row_trials
from bystander.verdicts.compared.together import order_doubt


def elsewhere(
    starts: Callable[[int, int, int], float], blocks: int = 12, took: float = 1.0, more: float = 1.0, **changes: object
) -> Record:
    """Return an imported record; `starts` gives each trial's start by block, arm and place in its block."""
    made = made_record(
        {"w": {"a": noisy(blocks, took, seed=1), "b": noisy(blocks, took * more, seed=2)}}, origin="imported"
    )
    trials = made.trials
    places = zip(trials.block.tolist(), trials.arm.tolist(), trials.order.tolist(), strict=True)
    started = np.array([starts(*place) for place in places])
    return replace(made, trials=replace(trials, started_s=started, **changes))


def only_row(record: Record) -> Row:
    (row,) = decide(record).primary
    return row


def beside(block: int, _arm: int, order: int) -> float:
    return 10.0 * block + 2 * order


def test_neighbours_are_pairs_and_their_order_is_proved() -> None:
    """Back to back, in the order that the starts tell: nothing is left out and nothing is doubted."""
    row = only_row(elsewhere(beside, more=1.3))

    assert (row.verdict, row.blocks) == ("slower", 12)
    assert not {"unrandomised", "hours-apart", "blocks-apart"} & {note.code for note in row.notes}


def test_two_series_are_no_pairs() -> None:
    """All of one arm, then all of the other seven minutes later: no block is a pair, and the row is unclear."""
    row = only_row(elsewhere(lambda block, arm, _: 2.0 * block + 420 * arm, more=1.9))

    assert (row.verdict, row.blocks) == ("unclear", 0)
    assert "In none of 12 blocks did the trials of both arms run back to back" in row.notes[-1].text


def test_one_trial_in_between_is_enough() -> None:
    """A trial of another block that started between the two parts them; one of another machine does not."""
    between = elsewhere(
        lambda b, arm, order: 33.0 if (b, order) == (7, 0) else beside(b, arm, order) + 2 * (b == 3) * order
    )
    pairs = row_trials(between, Comparison(0, 1))[0]
    moved = np.where(between.trials.block == 7, 1, 0)
    apart = replace(between, trials=replace(between.trials, machine=moved))

    assert pairs.apart == 2  # block 3, into which the trial fell, and block 7 that it left
    assert "2 blocks left out: their trials did not run back to back." in [n.text for n in only_row(between).notes]
    assert 3 in apart.trials.block[row_trials(apart, Comparison(0, 1))[0].reference]


@pytest.mark.parametrize(
    ("gap", "took", "pairs"), [(59.0, 0.0, True), (61.0, 0.0, False), (361.0, 300.0, True), (390.0, 300.0, False)]
)
def test_a_gap_is_explained_by_what_ran_in_it(gap: float, took: float, pairs: bool) -> None:
    """By the trial that started it and a minute; a laptop that slept for an hour in a block is no explanation."""
    record = elsewhere(lambda b, _, order: 1000.0 * b + (gap if b == 5 else took + 0.1) * order, took=took or 1e-3)
    kept = set(record.trials.block[row_trials(record, Comparison(0, 1))[0].reference].tolist())

    assert (5 in kept) == pairs
    assert len(kept) >= 11


def test_slow_set_up_before_every_trial_is_explained() -> None:
    """Five idle minutes before each trial are usual in such a record, and no reason to part its blocks."""
    record = elsewhere(lambda b, _, order: 600.0 * b + 300 * order, took=0.5)

    assert row_trials(record, Comparison(0, 1))[0].apart == 0


def test_other_arms_of_the_block_explain_a_gap() -> None:
    """Two minutes of a third arm between the two are what ran there."""
    times = {"w": {arm: [120.0] * 8 for arm in "abc"}}
    made = made_record(times, origin="imported")
    trials = made.trials
    place = np.where(trials.arm == 0, 0, 3 - trials.arm)  # a, c, b
    started = 1000.0 * trials.block + 121 * place
    record = replace(made, trials=replace(trials, started_s=started, order=place))

    assert [row_trials(record, Comparison(0, arm))[0].apart for arm in (1, 2)] == [0, 0]


@given(st.integers(0, 2**32), st.integers(6, 14))
def test_what_ran_in_blocks_is_never_parted(seed: int, blocks: int) -> None:
    """Any record that ran as Bystander runs it keeps all its pairs, however its orders were drawn."""
    rng = np.random.default_rng(seed)
    clock = 1e9
    starts = {}
    for block in range(blocks):
        for order in range(2):
            starts[block, order] = clock
            clock += float(rng.lognormal(0, 1))
    record = elsewhere(lambda b, _, order: starts[b, order], blocks, took=0.5)

    assert row_trials(record, Comparison(0, 1))[0].apart == 0


def doubt(record: Record) -> str:
    pair = row_trials(record, Comparison(0, 1))[0]
    return order_doubt(record, pair.reference, pair.candidate, pair.paired)


def test_the_reason_for_a_doubt_is_told() -> None:
    """No order, no starts, an order that the starts contradict, an arm that led in more than nine tenths."""
    good = elsewhere(beside)
    trials = good.trials
    led = elsewhere(lambda b, arm, _: 10.0 * b + arm, order=trials.arm.copy())
    ten = [block_order(1, "w", b, ("before", "after")).index(0) == 0 for b in range(12)]
    flipped = replace(trials, order=np.where(trials.block == 4, 1 - trials.order, trials.order))

    assert doubt(good) == ""
    assert 1 < sum(ten) < 11
    assert doubt(replace(good, trials=replace(trials, order=np.full(24, -1)))) == "the order within blocks is not told"
    assert "when trials started is not told" in doubt(
        replace(good, trials=replace(trials, started_s=np.full(24, np.nan)))
    )
    assert "contradict each other in 1 of 12 blocks" in doubt(replace(good, trials=flipped))
    assert doubt(led) == "a ran first in 12 of 12 blocks"
    assert doubt(replace(good, trials=replace(trials, started_s=10.0 * trials.block))) == ""  # told to the second


def test_nine_tenths_are_allowed_and_more_is_not() -> None:
    """Of ten blocks one arm may lead in nine."""
    for leads, doubted in ((9, False), (10, True)):
        made = elsewhere(beside, blocks=10)
        first = np.where(made.trials.block < leads, made.trials.arm, 1 - made.trials.arm)
        started = 10.0 * made.trials.block + 2 * first
        assert bool(doubt(replace(made, trials=replace(made.trials, order=first, started_s=started)))) == doubted


def test_what_was_observed_here_needs_no_proof() -> None:
    """The user's own archive knows what ran, also when the clock was set back in the middle."""
    record = elsewhere(lambda b, arm, _: 1000.0 - 7 * b + 420 * arm)
    own = replace(record, head=replace(record.head, origin="observed"))
    imported = replace(own, head=replace(own.head, provenance="imported"))

    assert row_trials(own, Comparison(0, 1))[0].apart == 0
    assert row_trials(imported, Comparison(0, 1))[0].apart == 12


def test_two_records_merged_by_hand_are_not_paired(run: Run, tmp_path: Path) -> None:
    """One arm of each export, one renamed, in one file: exit 1 at the gate, not 3; each export alone is fine."""
    (tmp_path / "bystander.toml").write_text(
        'name = "tides"\nblocks = 8\nstopping = "fixed"\n[arms.before]\n[arms.after]\nsettings.n = 2\n'
        '[workloads.w]\ncommand = "sleep 0.002"\n',
        encoding="utf-8",
    )
    rows: list[dict[str, str]] = []
    for arm, name in (("before", "before"), ("before", "after")):
        run("observe", "--quiet")
        text = run("records", "export").stdout
        mine = [row for row in csv.DictReader(io.StringIO(text)) if row["arm"] == arm]
        rows += [{**row, "arm": name} for row in mine]
    with (tmp_path / "merged.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, rows[0])
        writer.writeheader()
        writer.writerows(rows)
    (tmp_path / "one.csv").write_text(text, encoding="utf-8")
    run("records", "import", "merged.csv")
    document = json.loads(run("decide", "--json", "--gate", "slower,faster", code=1).stdout)
    (row,) = [row for row in document["results"] if row["primary"]]
    run("records", "import", "one.csv")
    alone = json.loads(run("decide", "--json").stdout)
    (whole,) = [row for row in alone["results"] if row["primary"]]

    assert (row["verdict"], row["blocks"]) == ("unclear", 0)
    assert "hours-apart" in [note["code"] for note in row["notes"]]
    assert "did not run back to back" in document["gate"]["not_told"][0]
    assert whole["blocks"] == 8
    assert not {"hours-apart", "blocks-apart"} & {note["code"] for note in whole["notes"]}
