"""Callables are timed in processes of the arm's interpreter: the call alone, many iterations, one number a process."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
import pytest
from conftest import Run

from bystander.archive import Archive
from bystander.design import TimedCallable
from bystander.field.inside import callable_harness as harness
from bystander.stats import median, warm_from

MODULE = """
import asyncio, sys, time

def spin(n=200):
    total = 0
    for i in range(n):
        total += i
    return total

def pair():
    time.sleep(0.0005)
    return (100, 200)

def add(first, second):
    return spin(first) + spin(second)

def numbers():
    return [3, 1, 2]

def sort(values):
    assert values == [3, 1, 2], "made for another iteration"
    values.sort()
    return values

async def pause(seconds):
    await asyncio.sleep(seconds)
    return seconds

def broken():
    raise RuntimeError("the sluice is shut")

class Lock:
    @staticmethod
    def fill():
        return "full"
"""
STUDY = """
blocks = 8
seed = 2
[arms.before]
[arms.after]
environment.EXTRA = "1"
[workloads.w]
python = "{python}"
sample = "2 ms"
samples = 12
"""


@pytest.fixture
def office(tmp_path: Path) -> Path:
    """A folder with a module, in no repository."""
    (tmp_path / "office.py").write_text(MODULE, encoding="utf-8")
    return tmp_path


def written(office: Path, lines: str) -> Path:
    """Write a study of one callable."""
    (office / "bystander.toml").write_text(STUDY.format(python=sys.executable) + lines, encoding="utf-8")
    return office


def observed(run: Run, office: Path, lines: str, *words: str) -> dict:
    """Observe a study of one callable and return its only primary row."""
    written(office, lines)
    run("observe", "--quiet", *words)
    return next(row for row in json.loads(run("decide", "--json").stdout)["results"] if row["primary"])


def test_a_call_is_timed_and_all_samples_are_kept(run: Run, office: Path) -> None:
    """The median is that of one call, near what a loop by hand gives; the record holds iterations and samples."""
    row = observed(run, office, 'call = "office:spin"\nanswer = "result"\n')
    with Archive(office / ".bystander" / "archive.sqlite") as archive:
        record = archive.load()
    timed = record.head.study.workloads[0].what
    samples = record.samples[0, "elapsed"]
    reading = record.trials.readings[0, [m.name for m in record.head.measures].index("elapsed")]

    assert isinstance(timed, TimedCallable)
    assert timed.iterations >= 20
    assert 1e-6 < row["reference"]["median"] < 1e-4
    assert 6 <= row["blocks"] <= 8
    assert row["verdict"] in ("same", "unclear", "slower", "faster")
    assert not any(note["code"].startswith("answer") for note in row["notes"])
    assert samples.size == 12
    assert reading == pytest.approx(median(samples[warm_from(samples) :]), rel=1e-12)
    assert reading * timed.iterations > 0.0003  # of 2 ms, on a machine of several speeds
    assert "slow_samples" not in {row["measure"] for row in json.loads(run("decide", "--json").stdout)["results"]}


def test_the_tail_within_a_trial_is_one_number_a_trial(run: Run, office: Path) -> None:
    """The 95th percentile of the warm samples, of trials of 20 or more; it is tested like any other measure."""
    written(office, 'call = "office:spin"\n')
    study = office / "bystander.toml"
    study.write_text(study.read_text(encoding="utf-8").replace("samples = 12", "samples = 25"), encoding="utf-8")
    run("observe", "--quiet", "--fixed", "3")
    with Archive(office / ".bystander" / "archive.sqlite") as archive:
        record = archive.load()
    samples = record.samples[3, "elapsed"]
    reading = record.trials.readings[3, [m.name for m in record.head.measures].index("slow_samples")]

    assert reading == pytest.approx(np.quantile(samples[warm_from(samples) :], 0.95), rel=1e-12)
    assert "slow_samples" in {row["measure"] for row in json.loads(run("decide", "--json").stdout)["results"]}


@pytest.mark.parametrize(
    ("lines", "low_s", "high_s"),
    [
        ('call = "office:add"\ngiven = "office:pair"\n', 1e-6, 4e-4),  # what makes the arguments is not timed
        ('call = "office:add"\ngiven = [10, 20]\n', 2e-7, 1e-4),
        ('call = "office:add"\ngiven.first = 10\ngiven.second = 20\n', 2e-7, 1e-4),
        ('call = "office:sort"\ngiven = "office:numbers"\nfresh = true\n', 2e-8, 1e-4),
        ('call = "office:pause"\ngiven = [0.002]\n', 0.002, 0.05),
        ('call = "office:Lock.fill"\ngarbage = "as it is"\n', 1e-8, 1e-5),
    ],
    ids=["given by a function", "a list", "named", "fresh", "awaited", "inside a class"],
)
def test_arguments_are_given_in_every_way(run: Run, office: Path, lines: str, low_s: float, high_s: float) -> None:
    """Each trial ends well, and the time is that of the call."""
    row = observed(run, office, lines + "\n", "--blocks", "3")

    assert row["reference"]["failed"] == row["candidate"]["failed"] == 0
    assert low_s < row["reference"]["median"] < high_s


def test_a_callable_that_raises_fails_with_its_traceback(run: Run, office: Path) -> None:
    """It is told in check, and kept in the record."""
    written(office, 'call = "office:broken"\n')
    told = run("check", code=1).stdout
    run("observe", "--quiet")
    document = json.loads(run("decide", "--json").stdout)

    assert "the sluice is shut" in told
    assert document["results"][0]["verdict"] == "failed"
    assert "RuntimeError: the sluice is shut" in document["failures"][0]["said"]


def test_a_slower_callable_is_found_and_shown_as_one(run: Run, office: Path) -> None:
    """Another argument through the arm's interpreter environment makes it slower; check shows what is called."""
    (office / "office.py").write_text(
        MODULE + "\nimport os\ndef work():\n    return spin(300 if 'EXTRA' in os.environ else 100)\n", encoding="utf-8"
    )
    row = observed(run, office, 'call = "office:work"\nanswer = "result"\n')
    shown = run("check", "--placebo-blocks", "3").stdout

    assert row["verdict"] == "slower"
    assert 1.3 < row["ratio"] < 5  # three times the work, on a machine of several speeds
    assert any(note["code"] == "answer-differs" for note in row["notes"])
    assert "office:work in" in " ".join(shown.split())
    assert "iterations a sample" in " ".join(shown.split())


@pytest.mark.parametrize(
    ("lines", "clause"),
    [
        ('call = "office"', 'workloads.w.call: "office" names no callable'),
        ('call = "office:spin"\ncommand = "true"', "it does not go with call"),
        ('call = "office:spin"\nfresh = true\ngiven = [1]', 'it needs given = "module:name"'),
        ('call = "office:spin"\nsamples = 2', "samples: 2 is no whole number from 5"),
        ('call = "office:spin"\nsample = "soon"', '"soon" is no duration'),
        ('call = "office:spin"\ngarbage = "never"', 'write "held" or "as it is"'),
        ('call = "office:spin"\nanswer = "output"', 'is no answer rule here; write "result"'),
        ('call = "office:spin"\ngiven = [2026-11-25]', "dates and nan cannot be passed on"),
        ('command = "true"\nfresh = true', 'workloads.w.fresh: it goes with call = "module:name"'),
    ],
)
def test_wrong_callables_are_told(run: Run, office: Path, lines: str, clause: str) -> None:
    """One sentence with the key and what would be right."""
    text = "[arms.a]\n[arms.b]\nsettings.n = 1\n[workloads.w]\n" + lines
    (office / "bystander.toml").write_text(text, encoding="utf-8")

    assert clause in run("check", code=2).stderr


def test_cold_samples_are_left_out() -> None:
    """The floor is three; a slow start is found; steady and short series have defined answers."""
    chance = np.random.default_rng(4)
    steady = chance.normal(1.0, 0.01, 40)
    slow = np.concatenate([np.linspace(3.0, 1.1, 9), steady])
    falling = np.linspace(2.0, 1.0, 40)

    assert warm_from(steady) == 3
    assert 7 <= warm_from(slow) <= 10
    assert warm_from(falling) <= 20
    assert warm_from(np.ones(4)) == 0
    assert warm_from(np.ones(5)) == 2  # at most half is left out
    assert warm_from(np.ones(20)) == 3


class Clockwork(harness.Timed):
    """A callable that takes so many ns each, and so many a batch besides; nothing is really called."""

    def __init__(self, each: float, besides: float, stall_at: int = 0) -> None:
        self.each, self.besides, self.stall_at, self.sizes = each, besides, stall_at, []

    def sample(self, iterations: int) -> tuple[float, float]:
        """Return what it would take."""
        self.sizes.append(iterations)
        return self.besides + self.each * iterations + 1e9 * (iterations == self.stall_at), 0.0


def test_iterations_last_as_long_as_a_sample_shall() -> None:
    """Batches of 1, 3, 9, ... until one lasts a tenth; what a batch costs besides drops out; two digits are kept."""
    clock = Clockwork(each=1234.0, besides=50_000.0)
    found = clock.iterations_for(0.01)

    assert found == 8200  # 10 ms / 1234 ns = 8103.7, in two digits and no less
    assert sorted(set(clock.sizes)) == [1, 3, 9, 27, 81, 243, 729, 2187][: len(set(clock.sizes))]
    assert max(clock.sizes) * 1234 + 50_000 >= 1e6 > max(clock.sizes) / 3 * 1234 + 50_000
    assert Clockwork(each=5e8, besides=0).iterations_for(0.01) == 1
    assert Clockwork(each=1e4, besides=0, stall_at=27).iterations_for(0.01) > 0
    assert Clockwork(each=1e-9, besides=0).iterations_for(0.01) == harness.MOST_ITERATIONS
    assert [harness.two_digits(n) for n in (0.3, 1, 1.1, 9.5, 11, 110, 111, 498_001)] == [
        1,
        1,
        2,
        10,
        11,
        110,
        120,
        500_000,
    ]


def test_a_call_is_made_once_an_iteration_and_the_last_result_is_kept() -> None:
    """With plain, named, fresh and no arguments; fresh ones are made before the clock starts, one for each."""
    seen: list[object] = []

    def call(*words: object, **named: object) -> int:
        seen.append((words, named))
        return len(seen)

    def timed(**more: object) -> harness.Timed:
        one = harness.Timed.__new__(harness.Timed)
        one.call, one.given, one.fresh, one.held, one.loop, one.same, one.result = (
            call, None, False, False, None, [((), {})], None,
        )  # fmt: skip
        for name, value in more.items():
            setattr(one, name, value)
        return one

    counter = iter(range(100))
    for more, words, named in (
        ({}, (), {}), ({"same": [((1, 2), {})]}, (1, 2), {}), ({"same": [((), {"a": 1})]}, (), {"a": 1}),
    ):  # fmt: skip
        seen.clear()
        one = timed(**more)
        assert one.sample(7)[0] > 0
        assert seen == [(words, named)] * 7
        assert one.result == 7
    seen.clear()
    fresh = timed(fresh=True, given=lambda: (next(counter),))
    fresh.sample(3)
    assert seen == [((0,), {}), ((1,), {}), ((2,), {})]
    seen.clear()
    timed(fresh=True, given=lambda: {"n": next(counter)}).sample(2)
    assert seen == [((), {"n": 3}), ((), {"n": 4})]


def test_arguments_are_taken_as_they_are_given() -> None:
    """A tuple is several, a dict of names is named, all else is one."""
    assert harness.arguments((1, 2)) == ((1, 2), {})
    assert harness.arguments({"a": 1}) == ((), {"a": 1})
    assert harness.arguments({1: 1}) == (({1: 1},), {})
    assert harness.arguments([1]) == (([1],), {})


def test_inputs_are_named_arguments(run: Run, tmp_path: Path) -> None:
    """Of the callable, or of what makes its arguments; each keeps the type that it has in the study."""
    (tmp_path / "tides.py").write_text(
        "def told(port, days=1):\n    with open('given', 'a') as file:\n        print((port, days), file=file)\n"
        "def made(days):\n    return 'south', days\n", encoding="utf-8",
    )  # fmt: skip
    head = '[arms.a]\nfolder = "."\n[workloads.w]\ncall = "tides:told"\nsamples = 5\nsample = "1 ms"\n'
    for more, given in (
        ('given = { port = "north" }\ninputs.days = [3, 80]\n', {"('north', 3)", "('north', 80)"}),
        ('given = "tides:made"\ninputs.days = [1, 2.5]\n', {"('south', 1)", "('south', 2.5)"}),
        ('inputs = [{ port = "x", days = 4 }]\n', {"('x', 4)"}),
    ):
        (tmp_path / "bystander.toml").write_text(head + more, encoding="utf-8")
        run("observe", "--quiet", "--fixed", "1")
        assert set((tmp_path / "given").read_text("utf-8").splitlines()) == given
        (tmp_path / "given").unlink()
    for more, said in (
        ("given = [1]\ninputs.days = [3]\n", "inputs are named arguments"),
        ("given = { days = 1 }\ninputs.days = [3]\n", "given has an argument of that name"),
        ("inputs.days = [nan]\n", "nan and inf cannot be passed on"),
    ):
        (tmp_path / "bystander.toml").write_text(head + more, encoding="utf-8")
        assert said in run("check", code=2).stderr


def test_functions_are_compared_without_a_study(run: Run, tmp_path: Path) -> None:
    """Two by name; what is printed repeats them; one that is edited is held against itself as it was."""
    (tmp_path / "src").mkdir()
    text = "def short(n):\n    return sum(range(n))\ndef long(n):\n    return sum(range(3 * n))\n"
    (tmp_path / "src" / "tides.py").write_text(text, encoding="utf-8")
    calls = ("--call", "one=tides:short", "--call", "other=tides:long", "--given", "n=3000")
    shown = run("observe", "--quiet", "--fixed", "6", *calls).stdout
    run("report", "--to", "review.md")
    assert "other against one" in shown
    assert "slower" in shown
    page = (tmp_path / "review.md").read_text("utf-8")
    assert "--call one=tides:short --call other=tides:long --given n=3000" in page
    run("observe", "--quiet", "--fixed", "2", "--call", "tides:short", "--given", "3000")
    (tmp_path / "src" / "tides.py").write_text(text.replace("range(n)", "range(9 * n)"), encoding="utf-8")
    again = run("observe", "--quiet", "--again", "--fixed", "6").stdout
    assert "slower" in again
    assert "short gives another answer" in again
    for words, said in (
        (("--call", "a:b", "--call", "c:d"), "is no NAME=module:function"), (("--call", "x"), "names no callable"),
        (("--call", "a=b:c", "--call", "a=b:d"), "stands twice"),
        (("--call", "a:b", "--make-input", "c"), "--make-input: \"c\" names no function"),
    ):  # fmt: skip
        assert said in run("observe", *words, code=2).stderr
