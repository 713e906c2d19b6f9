"""Stopping by rule: the levels of the looks, what they hold, and that observation and decision stop alike."""

from __future__ import annotations

import json
import math
import os
import shutil
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from builders import made_record, noisy
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import brentq
from scipy.stats import norm

from bystander.archive import Archive
from bystander.design import Arm, Command, MachineFacts, Record, Status, Study, TrialOutcome, Workload
from bystander.exchange import read_record_json, record_json, verdicts_json
from bystander.field import ReadyCommand, StudyFolder
from bystander.flow.commands.observe import World, observe, resume
from bystander.flow.observer import Silent
from bystander.flow.trials.blocks import Clocks
from bystander.report.markdown import markdown
from bystander.report.page import page
from bystander.stats import Looks, blocks_to_show, examine, fixed_look, planned_looks, walsh_contrasts
from bystander.verdicts import change_text, decide, looks_sentence, medians_text, stopping

MANY = (0.1, 0.15, 0.2, 0.25, 0.3, 0.35, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0)


@pytest.mark.parametrize(
    ("risk", "levels"),
    [
        (0.05, (0.01000, 0.00821, 0.01163, 0.01758, 0.02651)),
        (0.10, (0.02000, 0.01734, 0.02476, 0.03766, 0.05728)),
    ],
)
def test_levels_are_those_of_the_published_tables(risk: float, levels: tuple[float, ...]) -> None:
    """Five looks at 8, 12, 18, 27 and 40 blocks that spend the risk in proportion, to five decimals."""
    looks = Looks((8, 12, 18, 27, 40))
    found = [float(looks.nominal(k, np.array(risk))) for k in range(5)]

    assert found == pytest.approx(levels, abs=5.1e-6)


def by_dense_recursion(times: Sequence[float], risk: float) -> list[float]:
    """Return nominal levels by Simpson's rule on a dense grid and SciPy's normal distribution."""
    levels, before, grid = [], 0.0, 801
    places, mass = np.zeros(1), np.ones(1)
    for t in times:
        step, spent = math.sqrt(t - before), risk * (t - before)

        def excess(b: float, at: np.ndarray, w: np.ndarray, s: float, spent: float = spent) -> float:
            return float(np.sum(w * (norm.sf((b - at) / s) + norm.sf((b + at) / s)))) - spent

        bound = brentq(excess, 0, 30, args=(places, mass, step), xtol=1e-13)
        levels.append(2 * norm.sf(bound / math.sqrt(t)))
        new = np.linspace(-bound, bound, grid)
        simpson = np.where(np.arange(grid) % 2, 4.0, 2.0) * (new[1] - new[0]) / 3
        simpson[[0, -1]] /= 2
        mass = (norm.pdf((new[:, None] - places[None]) / step) / step) @ mass * simpson
        places, before = new, t
    return levels


@pytest.mark.parametrize("risk", [0.9, 0.1, 0.013, 0.05 / 200, 1e-7])
@pytest.mark.parametrize("shares", [(0.2, 0.3, 0.45, 0.675, 1.0), MANY])
def test_levels_agree_with_an_independent_recursion(risk: float, shares: tuple[float, ...]) -> None:
    """At any risk, whether it is a node or lies between two, within 2 parts in 10,000."""
    looks = Looks(tuple(math.ceil(200 * share) for share in shares))
    found = [float(looks.nominal(k, np.array(risk))) for k in range(len(shares))]

    assert found == pytest.approx(by_dense_recursion(looks.times, risk), rel=2e-4)


@given(st.floats(1e-30, 1.0), st.integers(0, 4), st.booleans())
def test_overall_p_is_the_least_risk_that_shows_it(p: float, look: int, strict: bool) -> None:
    """It shows at that risk and at none that is smaller; one-sided p is worth half of that of twice as much."""
    looks = Looks((8, 12, 18, 27, 40), strict)
    overall = float(looks.overall(look, np.array(p)))

    assert p <= overall <= 1
    if overall < 1:
        assert float(looks.nominal(look, np.array(overall * (1 + 1e-9)))) >= p
        assert float(looks.nominal(look, np.array(overall * (1 - 1e-9)))) <= p * (1 + 1e-8)
    if overall < 0.9:
        assert float(looks.overall_one_sided(look, np.array(p / 2))) == pytest.approx(overall / 2)


def test_strict_levels_add_up_to_the_risk_and_lie_below_the_others() -> None:
    """Bonferroni over the looks; a fixed number of blocks is one look at the whole risk."""
    strict = planned_looks(40, 0.05, strict=True)
    looks = Looks(strict.blocks)
    levels = [float(strict.nominal(k, np.array(0.05))) for k in range(len(strict.blocks))]

    assert sum(levels) == pytest.approx(0.05)
    assert all(level <= float(looks.nominal(k, np.array(0.05))) + 1e-12 for k, level in enumerate(levels))
    assert fixed_look(20).nominal(0, np.array([0.05, 0.2])).tolist() == [0.05, 0.2]
    assert fixed_look(20).overall_one_sided(0, np.array([0.04, 0.7])).tolist() == [0.04, 0.7]


def test_looks_that_could_show_nothing_are_left_out() -> None:
    """2^(1-n) must not exceed what may be spent; where no look is left the last remains."""
    assert planned_looks(40, 0.05).blocks == (8, 10, 12, 14, 17, 20, 24, 28, 34, 40)
    assert planned_looks(40, 0.05 / 10).blocks == (12, 14, 17, 20, 24, 28, 34, 40)
    assert planned_looks(40, 0.05 / 200).blocks == (17, 20, 24, 28, 34, 40)
    assert planned_looks(40, 0.05, strict=True).blocks == (8, 12, 18, 27, 40)
    assert planned_looks(6, 0.05).blocks == (6,)
    assert planned_looks(1, 0.05).blocks == (1,)


NOISES: dict[str, Callable[[np.random.Generator, tuple[int, int]], np.ndarray]] = {
    "normal": lambda rng, shape: rng.normal(0, 1, shape),
    "heavy": lambda rng, shape: rng.standard_t(2, shape),
    "two speeds": lambda rng, shape: rng.normal(0, 0.1, shape) + rng.choice((-1.0, 0.0, 1.0), shape),
}


@pytest.mark.parametrize("noise", NOISES)
@pytest.mark.parametrize("strict", [False, True])
def test_looking_ten_times_holds_the_risk(noise: str, strict: bool) -> None:
    """Of 20,000 unchanged rows that are looked at ten times at most 5 % are called changed, and hardly fewer."""
    rng, looks = np.random.default_rng(8), planned_looks(40, 0.05, strict)
    d = NOISES[noise](rng, (20_000, 40))
    called = np.zeros(20_000, dtype=bool)
    for part in np.split(np.arange(20_000), 10):
        for look, blocks in enumerate(looks.blocks):
            p = examine(walsh_contrasts(d[part, :blocks], d[part, :blocks]), np.zeros(part.size)).p
            called[part] |= looks.overall(look, p) <= 0.05

    assert called.mean() <= 0.05 + 3 * math.sqrt(0.05 * 0.95 / 20_000)
    assert called.mean() >= (0.03 if strict else 0.04)


def looked(record: Record, rule: str = "looks", blocks: int = 40) -> Record:
    """Return a record whose study stops by that rule."""
    return replace(record, head=replace(record.head, study=replace(record.head.study, stopping=rule, blocks=blocks)))


def test_a_row_is_decided_on_the_blocks_up_to_its_look_alone() -> None:
    """What came after the look that decided it changes nothing, however wild."""
    before, after = noisy(40, 1.0, seed=1), noisy(40, 1.2, seed=2)
    (row,) = decide(looked(made_record({"w": {"a": before, "b": after}}))).primary
    wild = [*after[:8], *(0.01 for _ in range(32))]
    (again,) = decide(looked(made_record({"w": {"a": before, "b": wild}}))).primary
    (alone,) = decide(made_record({"w": {"a": before[:8], "b": after[:8]}})).primary

    assert (row.blocks, row.stop.look, row.stop.reason, row.verdict) == (8, 0, "changed", "slower")
    assert (again.p, again.low, again.high, again.estimate) == (row.p, row.low, row.high, row.estimate)
    assert row.estimate == alone.estimate
    assert row.p == pytest.approx(5 * alone.p)  # the first look may spend a fifth
    assert row.low < alone.low < alone.high < row.high  # the first of ten looks has a wider interval


def test_interval_and_p_never_contradict_each_other_at_any_look() -> None:
    """Over many rows of small changes: shown as changed exactly where the interval at that level leaves out none."""
    rng = np.random.default_rng(4)
    seen = set()
    for seed in range(60):
        shift = rng.uniform(0, 0.06)
        made = made_record({"w": {"a": noisy(40, 1.0, 0.03, 2 * seed), "b": noisy(40, 1 + shift, 0.03, 2 * seed + 1)}})
        (row,) = decide(looked(made, ("looks", "strict")[seed % 2])).primary
        seen.add((row.stop.look, row.stop.reason))
        if row.verdict in ("slower", "faster", "unclear"):
            assert (row.p <= 0.05) == (row.low > 1 or row.high < 1)
        if row.stop.reason == "changed":
            assert row.p <= 0.05
            assert abs(row.estimate - 1) > 0.03
        if row.stop.reason == "same":
            assert row.e <= 0.05
    assert len({look for look, _ in seen}) > 5
    assert {reason for _, reason in seen} == {"changed", "same", "most-blocks"}


def test_a_change_within_the_margin_goes_on_to_the_end_or_to_the_same() -> None:
    """However clear, it does not stop by itself: it may yet be shown to lie within the margin."""
    exact = made_record({"w": {"a": [1.0] * 40, "b": [1.0299] * 40}})
    (row,) = decide(looked(exact)).primary

    assert (row.stop.reason, row.verdict) == ("same", "same")


def test_a_candidate_that_fails_more_often_stops() -> None:
    """All of its eight trials failed and none of the reference's: that is enough, and no time is lost with it."""
    record = made_record({"w": {"a": [1.0] * 40, "b": [1.0] * 40}}, failed={("w", "b"): range(40)})
    (row,) = decide(looked(record)).primary

    assert (row.stop.reason, row.stop.blocks, row.verdict) == ("fails-more", 8, "failed")


def test_an_unfinished_record_is_decided_at_its_last_look() -> None:
    """Thirteen blocks count as twelve; before the first look nothing is decided, and no interval is shown."""
    before, after = noisy(40, 1.0, 0.2, seed=1), noisy(40, 1.05, 0.2, seed=2)
    short = made_record({"w": {"a": before[:13], "b": after[:13]}}, state="interrupted")
    (row,) = decide(looked(short)).primary
    early = looked(made_record({"w": {"a": before[:5], "b": after[:5]}}, state="interrupted"))
    study = early.head.study
    weighted = replace(study, workloads=(replace(study.workloads[0], weight=3.0),))
    decision = decide(replace(early, head=replace(early.head, study=weighted)))
    (first,) = decision.primary

    assert (row.blocks, row.stop.reason) == (12, "unfinished")
    assert (first.verdict, first.stop.reason, first.has("before-first-look")) == ("unclear", "before-first-look", True)
    assert math.isnan(first.estimate)
    assert math.isnan(first.reference.median)
    assert math.isinf(first.high)
    assert (change_text(first), medians_text(first)) == ("not looked at yet", "-")
    assert (decision.loads[0].known, decision.loads[0].sums, decision.distributions) == (False, None, ())
    assert [(single.values.size, single.summary) for single in decision.singles] == [(0, None), (0, None)]
    assert [single["median"] for single in json.loads(verdicts_json(decision))["arms_alone"]] == [None, None]
    assert [single.values.tolist() for single in decide(looked(short)).singles] == [before[:12], after[:12]]
    assert any("last look" in note.text for note in decision.notes)


def test_outputs_tell_the_looks_and_where_rows_stopped() -> None:
    """In a sentence, in the table of both reports, and in the document for programs, with the nominal levels."""
    times = {
        "twice": {"a": noisy(40, 1.0, seed=1), "b": noisy(40, 2.0, seed=2)},
        "noisy": {"a": noisy(40, 1.0, 0.5, seed=3), "b": noisy(40, 1.0, 0.5, seed=4)},
    }
    decision = decide(looked(made_record(times)))
    text, document = markdown(decision), json.loads(verdicts_json(decision))
    looks = document["stopping"]["looks"]
    fixed = decide(made_record(times))

    assert "8, 10, 12, 14, 17, 20, 24, 28, 34 and 40" not in looks_sentence(decision)  # two rows: 8 show nothing
    assert "34 and 40 blocks, levels 0.74 to 2.1 %: decided 1 after 10;" in looks_sentence(decision)
    assert looks_sentence(decision).endswith("1 ran to the last.")
    assert "| 10 | 1.25 % | 1 | 0 | 0 | 1 |" in text
    assert "| 40 | 2.07 % | 0 | 0 | 0 | 1 |" in text
    assert "<td>1.25 %</td>" in page(decision)
    assert looks[0] == {"blocks": 10, "level": pytest.approx(0.0125), "level_same": pytest.approx(0.0125)}
    assert [row["stopped"] for row in document["results"] if row["primary"]] == ["changed", "most-blocks"]
    assert looks_sentence(fixed) == ""
    assert "after blocks" not in markdown(fixed)


# ---- through the observation ----------------------------------------------------------------------------------

WORKLOADS = ("twice", "alike", "noisy", "fails")
ARMS = (
    Arm("before", in_place=True),
    Arm("after", in_place=True, command={name: f"/bin/true {name} after" for name in WORKLOADS}),
)
STUDY = Study(
    "looks", ARMS, tuple(Workload(name, name, Command(f"/bin/true {name}")) for name in WORKLOADS), blocks=40, seed=4,
    stopping="looks",
)  # fmt: skip


class Office:
    """Runs nothing: trials end at once, with times that their names tell; a session ends after so many."""

    def __init__(self, output: Path, trials: int) -> None:
        self.output, self.left, self.chance = output, trials, np.random.default_rng(trials)
        self.marks = output.with_name("marks")
        output.touch()

    def kill_at_once(self) -> None:
        """Nothing runs."""

    def run(self, command: ReadyCommand) -> TrialOutcome:
        """Return a trial, or interrupt."""
        if self.left == 0:
            raise KeyboardInterrupt
        self.left -= 1
        _, name, *arm = command.argv
        elapsed = 2.0 if name == "twice" and arm else 1.0
        if name == "noisy":
            elapsed = float(np.exp(self.chance.normal(0, 0.5)))
        status = Status.EXIT if name == "fails" and arm else Status.OK
        return TrialOutcome(status, int(status), 1e9, 1.0, {"elapsed": elapsed, "cpu": 0.5})


def ran(folder: Path, sessions: Sequence[int], study: Study = STUDY) -> tuple[Record, list[tuple[int, list[str], int]]]:
    """Observe in sessions of so many trials, the last without end; return the record and what was told of looks."""
    told: list[tuple[int, list[str], int]] = []

    class Listening(Silent):
        def looked(self, blocks: int, decided: Sequence[str], live: int) -> None:
            told.append((blocks, list(decided), live))

    def world(trials: int) -> World:
        @contextmanager
        def launch(_lock: int, _interrupts: int) -> Iterator[Office]:
            yield Office(folder / "output", trials)

        return World(launch, Clocks(offset=lambda: 0.0), lambda: MachineFacts(host="gull", boot_id="first"))

    archive = folder / "a.sqlite"
    done = observe(study, StudyFolder(folder), archive, os.environ, Listening(), world=world(sessions[0]))
    for trials in [*sessions[1:], 10_000]:
        if not done.complete:
            done = resume(archive, None, os.environ, Listening(), world=world(trials))
    assert done.complete
    with Archive(archive) as kept:
        return kept.load(), told


@pytest.mark.parametrize("sessions", [(10_000,), (8 + 50,), (8 + 96, 8), (8 + 97, 9, 8 + 30)])
def test_what_is_decided_leaves_the_rounds(tmp_path: Path, sessions: tuple[int, ...]) -> None:
    """Three of four are decided at the first look and get no further trial, however often it is interrupted."""
    record, told = ran(tmp_path, sessions)
    counts = np.bincount(record.trials.workload) // 2
    rows = {row.workload: row for row in decide(record).primary}
    taken = {(look.workload, look.blocks): look.outcome for look in record.looks}

    assert counts.tolist() == [10, 10, 40, 10]
    assert record.head.complete
    assert {name: (row.verdict, row.stop.blocks) for name, row in rows.items()} == {
        "twice": ("slower", 10), "alike": ("same", 10), "noisy": ("unclear", 40), "fails": ("failed", 10),
    }  # fmt: skip
    on = (10, 12, 14, 17, 20, 24, 28, 34)
    assert taken == {
        (0, 10): "changed", (1, 10): "same", (3, 10): "fails-more", (2, 40): "most-blocks",
        **{(2, blocks): "goes-on" for blocks in on},
    }  # fmt: skip
    assert [(blocks, sorted(decided), live) for blocks, decided, live in dict.fromkeys(map(tuple_of, told))] == [
        (10, ["alike", "fails", "twice"], 1), *((blocks, [], 1) for blocks in on[1:]), (40, ["noisy"], 0),
    ]  # fmt: skip


def tuple_of(look: tuple[int, list[str], int]) -> tuple[int, tuple[str, ...], int]:
    return look[0], tuple(look[1]), look[2]


def test_a_fixed_number_of_blocks_is_run_whole(tmp_path: Path) -> None:
    """No look is taken and none is kept."""
    record, told = ran(tmp_path, (10_000,), replace(STUDY, stopping="fixed", blocks=10))

    assert (np.bincount(record.trials.workload) // 2).tolist() == [10] * 4
    assert (told, record.looks) == ([], ())


def test_a_floor_goes_on_with_those_that_stand_on_it(tmp_path: Path) -> None:
    """It is the same at once, but the noisy one is decided above it, block by block."""
    workloads = [replace(w, floor="alike") if w.name == "noisy" else w for w in STUDY.workloads]
    record, _ = ran(tmp_path, (10_000,), replace(STUDY, workloads=tuple(workloads)))

    assert (np.bincount(record.trials.workload) // 2).tolist() == [10, 40, 40, 10]
    assert {row.workload: row.blocks for row in decide(record).primary}["alike"] == 10


def test_looks_travel_with_the_record(tmp_path: Path) -> None:
    """Exported as a whole and read back, they are the same, and so are the stops."""
    record, _ = ran(tmp_path, (10_000,))
    again = read_record_json(record_json(record), "r.json")

    assert again.looks == record.looks
    assert stopping(again).stops == stopping(record).stops


def test_records_of_before_there_were_looks_stay_fixed(tmp_path: Path) -> None:
    """A file of the third schema is brought up to date, decided on all its blocks, and takes looks from then on."""
    path = tmp_path / "archive.sqlite"
    shutil.copy(Path(__file__).parent / "data" / "archives" / "schema-3.sqlite", path)
    with Archive(path) as archive:
        record = archive.load()
        decision = decide(record)
        archive.remove(record.head)
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute("SELECT COUNT(*) FROM look").fetchone() == (0,)

    assert record.head.study.stopping == "fixed"
    assert (decision.primary[0].blocks, len(decision.looks.blocks)) == (3, 1)


def test_options_choose_the_rule(run: Run) -> None:
    """--strict and --fixed are kept in the record; what contradicts them is refused."""
    quick = ("observe", "--arm", "before=true", "--arm", "after=true")
    assert "--fixed and --blocks" in run(*quick, "--fixed", "6", "--blocks", "7", code=2).stderr
    assert "--fixed and --strict" in run(*quick, "--fixed", "6", "--strict", code=2).stderr
    run(*quick, "--fixed", "6")
    fixed = run("decide").stdout
    run(*quick, "--strict", "--blocks", "12", "--margin", "90 %")
    strict = run("decide").stdout

    assert "Looks were" not in fixed
    assert "Looks planned after" in " ".join(strict.split())


@pytest.mark.parametrize("old_blocks", [8, 20, 40])
@pytest.mark.parametrize("heavy", [False, True])
def test_blocks_that_are_said_to_be_needed_are(old_blocks: int, heavy: bool) -> None:
    """Of new studies of so many blocks about 8 of 10 show the shift, with normal noise and with heavy tails."""
    rng = np.random.default_rng(5)

    def drawn(rows: int, blocks: int) -> np.ndarray:
        return 0.03 * rng.standard_t(3, (rows, blocks)) if heavy else rng.normal(0, 0.05, (rows, blocks))

    shown = []
    for _ in range(150):
        old = drawn(1, old_blocks)
        contrasts = walsh_contrasts(old, old)
        estimate = examine(contrasts, np.zeros(1)).estimate
        blocks = math.ceil(blocks_to_show(contrasts, estimate, np.array([0.03]), 0.05)[0])
        new = 0.03 + drawn(10, min(blocks, 250))
        shown.append(np.mean(examine(walsh_contrasts(new, new), np.zeros(10)).p <= 0.05))

    assert 0.75 <= np.mean(shown) <= 0.86
