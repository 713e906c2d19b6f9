"""Ceilings: a share of all trials that must stay within a limit, whatever another arm does."""

from __future__ import annotations

import json
import math
import signal
import subprocess
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np
import pytest
import scipy.stats
from builders import made_record, noisy
from conftest import PROGRAM, Run

from bystander.archive import Archive
from bystander.design import Ceiling, Record, StoppingRule, ceiling_of, gated_measure
from bystander.errors import UsageError
from bystander.field import MachineLock
from bystander.flow.observer import Silent
from bystander.flow.sessions.interrupts import Interrupts
from bystander.flow.sessions.pauses import Pauses, Spread
from bystander.flow.trials.blocks import StopAskedError
from bystander.foresight import blocks_for_ceilings, refuse_few_trials
from bystander.stats import broken_p, fixed_look, holds_p, planned_looks, serial_z, trials_for_ceiling
from bystander.verdicts import CeilingRow, beyond_text, decide, gate, gate_ask, gate_sentences, stopping

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize(("n", "share"), [(5, 0.5), (59, 0.95), (140, 0.95), (299, 0.99), (20_000, 0.999)])
def test_p_of_a_ceiling_is_that_of_the_binomial(n: int, share: float) -> None:
    """Both sides, from none beyond to all."""
    for beyond in {0, 1, n // 20, n // 2, n}:
        assert holds_p(beyond, n, share) == pytest.approx(scipy.stats.binom.cdf(beyond, n, 1 - share), rel=1e-8)
        assert broken_p(beyond, n, share) == pytest.approx(scipy.stats.binom.sf(beyond - 1, n, 1 - share), rel=1e-8)
    assert (holds_p(0, 0, share), broken_p(0, 0, share)) == (1.0, 1.0)


def test_the_least_number_of_trials_is_known() -> None:
    """As tolerance limits without a distribution have it (Wilks 1941): 5, 29, 59 and 299; looks take more."""
    least = [trials_for_ceiling(share, 0.05, fixed_look) for share in (0.5, 0.9, 0.95, 0.99)]
    assert least == [5, 29, 59, 299]
    for share in (0.9, 0.95, 0.99):
        n = trials_for_ceiling(share, 0.025, lambda most: planned_looks(most, 0.05))
        levels = [planned_looks(most, 0.05).levels(0.05)[-1] / 2 for most in (n, n - 1)]
        assert share**n <= levels[0]
        assert share ** (n - 1) > levels[1]


@pytest.mark.parametrize(
    ("text", "measure", "found"),
    [
        ("250 ms", "elapsed", (0.25, 0.95)), ("250 ms for 99 %", "elapsed", (0.25, 0.99)),
        ("64 MiB for 90 %", "peak_memory", (2**26, 0.9)), ("200", "minor_faults", (200.0, 0.95)),
        (200, "minor_faults", (200.0, 0.95)), ("2 % for 99 %", "interval:answer:missed", (0.02, 0.99)),
    ],
)  # fmt: skip
def test_a_ceiling_is_read_in_the_unit_of_its_measure(text: object, measure: str, found: tuple[float, float]) -> None:
    """With 95 % where nothing else is said."""
    ceiling = ceiling_of(text, gated_measure(measure))
    assert (ceiling.limit, ceiling.share) == pytest.approx(found)


def test_what_is_asked_is_said_as_it_was_written() -> None:
    """Without zeros that nobody wrote."""
    texts = [Ceiling("elapsed", s).text("s") for s in (0.25, 0.0305, 100.0, 1.5)]
    assert texts == ["95 % within 250 ms", "95 % within 30.5 ms", "95 % within 1 min 40 s", "95 % within 1.5 s"]
    assert Ceiling("peak_memory", 2**26, 0.999).text("B") == "99.9 % within 64 MiB"
    assert ceiling_of("3 MiB", gated_measure("reading:x"), unit_known=False).limit == 3 * 2**20


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("ceiling = '250'", '"250" is no ceiling of elapsed; write for example "250 ms" or "250 ms for 99 %"'),
        ("ceiling = '2 s for 100 %'", "that no trial ever is beyond cannot be shown"),
        ("ceiling = '2 s for 0 %'", "is no ceiling of elapsed"), ("ceiling = '2 s for often'", "is no ceiling"),
        ("ceiling = true", "True is no ceiling of elapsed"), ("ceiling.peak_memory = '2 s'", "ceiling.peak_memory"),
        ("ceiling.speed = '2 s'", 'ceiling.speed: there is no measure "speed"'),
        ("ceiling.'interval:x:oops' = '2 s'", "there is no measure"),
        ("ceiling.'reading:rate' = '3'\nnumbers.rate = { pattern = 'x', better = 'more' }", "more is better"),
        ("ceiling = '2 s'\n[workloads.v]\ncommand = 'true'\nceiling = 'soon'", 'workloads.v.ceiling: "soon"'),
    ],
)  # fmt: skip
def test_a_wrong_ceiling_is_told(run: Run, tmp_path: Path, line: str, said: str) -> None:
    """One sentence, with the key and what would be right."""
    text = f"[arms.a]\n[workloads.w]\ncommand = 'true'\n{line}\n"
    (tmp_path / "bystander.toml").write_text(text, encoding="utf-8")
    assert said in run("check", code=2).stderr


def held(
    times: dict[str, Sequence[float]], *ceilings: Ceiling, rule: StoppingRule = StoppingRule.FIXED, **more: Any
) -> Record:
    """Return a record of one workload by arm, held to ceilings."""
    record = made_record({"year": times}, **more)
    study = record.head.study
    workloads = tuple(replace(one, ceilings=ceilings) for one in study.workloads)
    return replace(record, head=replace(record.head, study=replace(study, workloads=workloads, stopping=rule)))


def spread_out(count: int, beyond: Sequence[int] = (), seed: int = 1) -> list[float]:
    """Return independent times of about 0.2 s, some of which are 0.4 s."""
    return [0.4 if i in beyond else value for i, value in enumerate(noisy(count, 0.2, 0.05, seed))]


QUARTER = Ceiling("elapsed", 0.25)


def only(record: Record) -> CeilingRow:
    (row,) = decide(record).ceilings
    return row


def test_one_arm_suffices() -> None:
    """Holds with 59 trials and none beyond, not with 58; one beyond makes it unclear, ten break it."""
    assert only(held({"now": spread_out(59)}, QUARTER)).verdict == "holds"
    assert only(held({"now": spread_out(58)}, QUARTER)).verdict == "unclear"
    one = only(held({"now": spread_out(59, [7])}, QUARTER))
    assert (one.verdict, one.beyond, one.trials) == ("unclear", 1, 59)
    assert only(held({"now": spread_out(59, range(3, 53, 5))}, QUARTER)).verdict == "broken"


def test_failed_trials_are_beyond_and_silent_ones_do_not_count() -> None:
    """One that crashed may have taken any time; one in which the measure was not read tells nothing."""
    row = only(held({"now": spread_out(60)}, QUARTER, failed={("year", "now"): (3, 9, 20)}))
    assert (row.beyond, row.failed, row.verdict) == (3, 3, "unclear")
    record = held({"now": spread_out(60)}, QUARTER)
    readings = record.trials.readings.copy()
    readings[[4, 5]] = np.nan
    row = only(replace(record, trials=replace(record.trials, readings=readings)))
    assert (row.trials, row.unread, row.p_holds) == (58, 2, pytest.approx(0.95**58))
    nowhere = only(held({"now": spread_out(60)}, Ceiling("reading:depth", 3.0)))
    assert (nowhere.verdict, nowhere.trials, nowhere.looked_at) == ("unclear", 0, False)


def test_several_ceilings_share_the_risk() -> None:
    """Holm over all of them, under every arm: 59 trials are too few for one of four, 86 are not."""
    times = {"before": spread_out(59), "after": spread_out(59, seed=2)}
    both = (QUARTER, Ceiling("elapsed", 0.3))
    assert {row.verdict for row in decide(held(times, *both)).ceilings} == {"unclear"}
    times = {"before": spread_out(86), "after": spread_out(86, seed=2)}
    assert {row.verdict for row in decide(held(times, *both)).ceilings} == {"holds"}
    placebo = decide(held({**times, "placebo": spread_out(86, seed=3)}, QUARTER)).ceilings
    assert [row.arm for row in placebo] == ["before", "after"]


def test_a_workload_goes_on_until_its_ceiling_is_decided() -> None:
    """Its row was decided long before; a ceiling that is broken at once ends early."""
    slower = {"before": spread_out(140), "after": [2 * value for value in spread_out(140, seed=2)]}
    record = held(slower, Ceiling("elapsed", 0.5), rule=StoppingRule.LOOKS)
    stopped = stopping(record)
    (stop,) = stopped.stops.values()
    assert stop.blocks == 28
    assert {test.trials.size for test in stopped.ceilings} == {98}
    assert stopped.open_workloads(record.head.study) == set()
    part = np.flatnonzero(record.trials.block < 60)
    early = replace(record, trials=taken(record, part))
    assert stopping(early).open_workloads(record.head.study) == {0}
    assert decide(early).ceilings[0].trials == 60
    both = held(slower, QUARTER, rule=StoppingRule.LOOKS)
    assert [test.trials.size for test in stopping(both).ceilings] == [98, 28]
    assert next(beyond_text(row) for row in decide(both).ceilings) == "28 of the first 28 (140 of 140 in all)"
    assert decide(early).ceilings[0].in_all == (0, 0)  # what was not looked at is not told


def taken(record: Record, places: Any) -> Any:
    trials = record.trials
    columns = {name: getattr(trials, name)[places] for name in trials.__dataclass_fields__
               if isinstance(getattr(trials, name), np.ndarray)}  # fmt: skip
    return replace(trials, **columns)


def test_trials_that_depend_on_each_other_are_found() -> None:
    """Drift is; independent trials in one of a hundred; a constant is none."""
    rng = np.random.default_rng(4)
    assert np.mean([serial_z(rng.normal(0, 1, 60)) >= 2.3263 for _ in range(1000)]) == pytest.approx(0.01, abs=0.01)
    assert serial_z(np.ones(60)) == 0
    assert serial_z(np.cumsum(rng.normal(0, 1, 60))) > 4
    drifting = [0.2 + 0.0005 * i for i in range(70)]
    row = only(held({"now": drifting}, QUARTER))
    assert (row.verdict, row.dependent, row.doubtful, row.sessions) == ("holds", True, True, 1)
    assert math.isnan(only(held({"now": spread_out(9)}, QUARTER)).serial_z)


def asked(record: Record, words: str, also: str | None = None) -> tuple[list[str], list[str]]:
    """Return the words that a gate finds, and what it could not tell."""
    found = gate(decide(record), gate_ask(tuple(words.split(",")), record.head.study, also))
    return [word for word, _ in found.found], list(found.untold)


def test_a_gate_finds_ceilings_that_are_broken_or_not_shown_to_hold() -> None:
    """Of candidates, or the one arm; dependent ones are not told, unless that is asked for, and never held."""
    words = "broken,not-held"
    assert asked(held({"now": spread_out(60)}, QUARTER), words) == ([], [])
    assert asked(held({"now": spread_out(58)}, QUARTER), words)[0] == ["not-held"]
    assert asked(held({"now": spread_out(60)}, Ceiling("elapsed", 0.1)), words)[0] == ["broken", "not-held"]
    drifting = held({"now": [0.2 + 0.0005 * i for i in range(70)]}, QUARTER)
    assert asked(drifting, "not-held")[0] == ["not-held"]
    found, untold = asked(drifting, "broken")
    assert found == []
    assert "1 ceiling left out, as the trials depend on each other in time (year); --gate-also dependent" in untold[0]
    assert asked(drifting, words, "unrandomised,dependent") == ([], [])
    two = held({"before": spread_out(60, range(0, 40, 2)), "after": spread_out(60, seed=2)}, QUARTER)
    assert [row.verdict for row in decide(two).ceilings] == ["broken", "holds"]
    assert asked(two, "broken")[0] == []
    assert "no workload has a ceiling" in asked(held({"now": spread_out(60)}), "broken")[1][0]
    with pytest.raises(UsageError, match="nothing that a gate leaves out; write unrandomised or dependent"):
        asked(two, "broken", "all")
    finding = gate(decide(drifting), gate_ask(("not-held",), drifting.head.study))
    assert gate_sentences(finding)[0] == "gate not-held: found year under now, 95 % within 250 ms (not-held)"


def test_trials_of_a_hundred_sessions_may_depend_on_each_other() -> None:
    """Sessions are told apart by the pauses that were asked for."""
    record = held({"now": [0.2 + 0.0005 * (i // 2) for i in range(200)]}, QUARTER)
    run = replace(record.head.timed_run, options={"sessions": 100, "apart_s": 600.0})
    starts = record.trials.started_s.copy()
    starts[:] = [600.0 * (i // 2) + i for i in range(200)]
    head = replace(record.head, runs=(run,))
    spread = replace(record, head=head, trials=replace(record.trials, started_s=starts))
    row = only(spread)
    assert (row.verdict, row.dependent, row.sessions, row.doubtful) == ("holds", True, 100, False)
    assert asked(spread, "broken,not-held") == ([], [])


def test_plans_that_could_not_show_it_are_refused() -> None:
    """With the number of blocks that could; a budget gives as many."""
    study = held({"before": spread_out(40), "after": spread_out(40)}, QUARTER).head.study
    assert blocks_for_ceilings(study) == (72,)  # one of two, at 2.5 %: 0.95^72
    with pytest.raises(UsageError, match=r"40 blocks cannot show that 95 % of trials stay within 250 ms.*blocks = 72"):
        refuse_few_trials(study)
    refuse_few_trials(replace(study, blocks=72))


class Clock:
    """Time that passes when somebody waits."""

    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        """Return the time, a little later each time."""
        self.now += 0.4
        return self.now


@pytest.fixture
def _hearing() -> Iterator[None]:
    """SIGINT is heard: what a shell runs in the background begins with it ignored."""
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    yield
    signal.signal(signal.SIGINT, before)


@pytest.mark.usefixtures("_hearing")
def test_the_machine_is_free_between_sessions(tmp_path: Path) -> None:
    """The lock can be taken meanwhile, is taken again, and an interrupt ends the pause."""
    path, said, free = tmp_path / "lock", [], []

    class Listening(Silent):
        def doing(self, what: str) -> None:
            said.append(what)

    class Watched(Clock):
        def __call__(self) -> float:
            if said:
                with MachineLock("another", path):
                    free.append(True)
            return super().__call__()

    with MachineLock("mine", path) as lock, Interrupts() as interrupts:
        pauses = Pauses(Spread(3, 0.5), lock, interrupts, Listening(), Watched())
        for at in range(6):
            pauses.before_round(at, 6)
            said.clear()
        assert free
        pauses.before_round(5, 6)
        signal.raise_signal(signal.SIGINT)
        with pytest.raises(StopAskedError):
            Pauses(Spread(2, 60), lock, interrupts, Silent(), Clock()).before_round(0, 2) or Pauses._wait(pauses, 9)
    with pytest.raises(UsageError, match="--sessions: 9 sessions take as many blocks at least, and 8 are planned"):
        Spread(9).refuse(8)
    assert Spread.of(Spread(3, 2.0).options) == Spread(3, 2.0)
    assert Spread.of({}) is None
    assert all(Spread.of(one) is None for one in ({"sessions": "x"}, {"sessions": 2, "apart_s": math.nan}))


ONE_ARM = """
blocks = {blocks}
[arms.now]
[workloads.year]
command = "sh -c 'sleep 0.002'"
ceiling = "9 s for 60 %"
"""


@pytest.mark.slow
def test_sessions_are_kept_and_counted(run: Run, tmp_path: Path) -> None:
    """One arm, looks, pauses, an interrupt in a pause, its resumption; every form says what came of the ceiling."""
    (tmp_path / "bystander.toml").write_text(ONE_ARM.format(blocks=12), encoding="utf-8")
    checked = " ".join(run("check").stdout.split())
    words = [str(PROGRAM), "observe", "--sessions", "4", "--apart", "1 s", "--fixed", "12"]
    process = subprocess.Popen(words, cwd=tmp_path, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert process.stderr
    for line in process.stderr:
        if line.startswith("session 1 of 4 is over; 3 sessions left, the next in 1.0 s"):
            process.send_signal(signal.SIGINT)
            break
    process.communicate(timeout=60)
    assert process.returncode == 130
    run("observe", "--resume", "--quiet")
    document = json.loads(run("decide", "--json").stdout)
    run("report", "--to", "r.md")
    run("report", "--to", "r.html")
    with Archive(tmp_path / ".bystander" / "archive.sqlite") as kept:
        assert kept.head(None).timed_run.options == {"sessions": 4, "apart_s": 1.0}
    (row,) = document["ceilings"]

    assert "year: to show that 60 % of trials stay within 9 s takes 8 trials of an arm at least" in checked
    jsonschema.validate(document, json.loads((ROOT / "docs" / "verdicts.schema.json").read_text(encoding="utf-8")))
    assert (row["verdict"], row["trials"], row["beyond"]) == ("holds", 12, 0)
    assert row["sessions"] in (3, 4)  # the interrupt took a pause away
    shown = " ".join(run("decide").stdout.split())
    for text in (shown, *((tmp_path / name).read_text(encoding="utf-8") for name in ("r.md", "r.html"))):
        assert "Of 1 ceiling: 1 shown to hold" in text
        assert "year, 60 % within 9 s" in text
    run("observe", "--gate", "broken,not-held", "--quiet")
    early = json.loads(run("decide", "--json").stdout)["ceilings"][0]
    assert early["trials"] < 12  # decided at a look
    assert "--apart goes with --sessions" in run("observe", "--apart", "9 s", code=2).stderr
    (tmp_path / "bystander.toml").write_text(ONE_ARM.format(blocks=7), encoding="utf-8")
    for command in ("check", "observe"):
        said = run(command, code=2).stderr
        assert "workloads.year.ceiling: 7 blocks cannot show that 60 % of trials stay within 9 s" in said


def test_memory_of_a_few_sizes_is_not_taken_for_dependent() -> None:
    """It says nothing of minutes; times that take few values do."""
    steps = [1e7 if i < 40 else 1.1e7 for i in range(80)]
    memory = decide(held({"now": steps}, Ceiling("peak_memory", 2e7), measure="peak_memory")).ceilings[0]
    assert (memory.verdict, memory.dependent, math.isnan(memory.serial_z)) == ("holds", False, True)
    assert only(held({"now": [value / 1e8 for value in steps]}, QUARTER)).dependent
