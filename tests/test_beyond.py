"""Beside what was seen: what was expected, guesses from the source, and studies that test either."""

from __future__ import annotations

import json
import textwrap
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from conftest import Run
from test_within import FIT, MAIN, PLAN, TRIAL, stacks

from bystander.design import Expectation, expectation_sentence
from bystander.errors import StudyError
from bystander.evidence import HINTS, hints_in, hunk_of, share_interval, shares_of
from bystander.flow.places import load_study

ROOT = Path(__file__).parents[1]


def found(text: str) -> list[tuple[int, str, str]]:
    """Return line, kind and name of each guess in a text."""
    return [(one.line, one.kind, one.name) for one in hints_in(textwrap.dedent(text).lstrip("\n"))]


SLOW = """
import copy, re
def all_of_them(ships, path, base):
    taken = []
    names = ""
    berths = base.split()
    order = sorted(ships)
    seen = ()
    for ship in ships:
        text = open(path).read()
        pattern = re.compile("quay")
        if ship in taken:
            taken.append(ship)
        names += ship.name
        first = sorted(ship.loads)[0]
        berths.pop(0)
        seen += (ship,)
        plan = copy.deepcopy(ship)
        place = order.index(ship)
        while text:
            total = sum(ships)
            text = text[1:]
"""


def test_each_kind_is_found_at_its_line() -> None:
    """One of each; the function and its lines are told."""
    told = found(SLOW)
    assert {kind for _, kind, _ in told} == set(HINTS)
    assert sorted(told) == sorted([
        (9, "opened-again", ""), (10, "compiled-again", ""), (11, "sought-in-list", "taken"),
        (13, "joined-bit-by-bit", "names"), (14, "sorted-for-one", ""), (15, "moved-along", "berths"),
        (16, "copied-to-grow", "seen"), (17, "copied-deeply", ""), (18, "counted-through", "order"),
        (20, "computed-again", "sum"),
    ])  # fmt: skip
    assert {one.function for one in hints_in(SLOW)} == {"all_of_them"}
    assert len(HINTS) == 10


@pytest.mark.parametrize(
    "text",
    [
        "def f(a):\n    for one in a:\n        open(one).read()\n",  # another file each time
        "def f(p, a):\n    for one in a:\n        open(p, 'a').write(one)\n",  # it grows
        "def f(a, b):\n    for one in a:\n        if one in b: pass\n",  # b may be a set
        "def f(a):\n    names = set()\n    for one in a:\n        if one in names: pass\n",
        "def f(a):\n    n = 0\n    for one in a:\n        n += 1\n",  # a number
        "def f(a):\n    for one in a:\n        text = ''\n        text += one\n",  # begins anew
        "def f(a):\n    text = ''\n    text += a\n",  # no loop
        "def f(a, b):\n    for one in a:\n        b.append(one)\n        m = max(b)\n",  # it changes
        "def f(a):\n    for one in a:\n        b = sorted(one)\n",
        "def f(a):\n    return sorted(a)[1]\n",
        "def f(d):\n    for k in range(9):\n        d.pop(0)\n",  # d may be a dict
        "def f(a):\n    for one in a:\n        def g(p):\n            re.compile('x')\n",  # called when it is called
        "def f(a, x):\n    for one in a:\n        raise ValueError(sorted(x))\n",
        "def f(:\n", "", "x = 1\0",
    ],
)  # fmt: skip
def test_what_is_as_it_should_be_is_left_alone(text: str) -> None:
    """Neither false guesses, nor any of what is no Python."""
    assert found(text) == []


def test_shares_are_held_over_trials() -> None:
    """The unit is the trial; recursion counts once; one trial bounds nothing."""
    trials = [stacks([([(MAIN, 1)], 60), ([(MAIN, 1), (FIT, 2)], ms)]) for ms in (38, 40, 42, 41, 39)]
    seconds, whole = shares_of(trials, "elapsed", {FIT})
    share, low, high = share_interval(seconds, whole, 0.05)
    shares = np.array([38 / 98, 40 / 100, 42 / 102, 41 / 101, 39 / 99])

    assert seconds == pytest.approx(np.array([38, 40, 42, 41, 39]) / 1000)
    assert share == pytest.approx(shares.mean())
    reach = 2.776445 * shares.std(ddof=1) / np.sqrt(5)  # Student's t, 4 degrees of freedom, two sides of 5 %
    assert (low, high) == (pytest.approx(share - reach, rel=1e-5), pytest.approx(share + reach, rel=1e-5))
    assert share_interval(seconds[:1], whole[:1], 0.05)[1:] == (0.0, 1.0)
    assert share_interval(seconds[:0], whole[:0], 0.05) == (0.0, 0.0, 1.0)
    assert shares_of([TRIAL], "elapsed", {FIT, PLAN})[0].tolist() == [pytest.approx(0.075)]


def test_what_was_expected_is_said_beside_what_was_found() -> None:
    """A surprise only where the interval lies wholly above."""
    one = Expectation("berths.fit", "after", (FIT,), 0.1, 0.4, 0.38, 0.42, 0.04, 0.1, 5)
    assert one.surprise
    said = "berths.fit under after: 40 % (38 % to 42 %) of 100 ms, expected 10 %: a surprise"
    assert expectation_sentence(one) == said
    for expected, said in ((0.39, "not shown to be more"), (0.5, "less than that")):
        sentence = expectation_sentence(Expectation("f", "after", (FIT,), expected, 0.4, 0.38, 0.42, 0.04, 0.1, 5))
        assert sentence.endswith(said)
    assert "not bounded" in expectation_sentence(Expectation("f", "b", (FIT,), 0.1, 0.4, 0, 1, 0.04, 0.1, 1))
    assert "nothing of that name" in expectation_sentence(Expectation("f", "b", (), 0.1, 0, 0, 1, 0, 0.1, 5))


STUDY = """
name = "quays"
blocks = 6
[arms.before]
folder = "old"
[arms.after]
folder = "new"
[workloads.plan]
command = "python3 work.py"
[workloads.plan.expected_share]
"work.fit" = "2 %"
"work.nowhere" = "3 %"
"""
WORK = """
import time
def fit(berths):
    taken = []
    for berth in berths:
        if berth not in taken:
            taken.append(berth)
    return len(taken)
def wait():
    time.sleep({seconds})
fit(list(range(2000)))
wait()
"""


def test_surprises_and_guesses_are_leads_that_are_tried(run: Run, tmp_path: Path) -> None:
    """Through the program: of both arms and of one, as documents, and each tested by a study of its own."""
    (tmp_path / "bystander.toml").write_text(STUDY, encoding="utf-8")
    for folder, seconds in (("old", 0.01), ("new", 0.06)):
        (tmp_path / folder).mkdir()
        (tmp_path / folder / "work.py").write_text(WORK.format(seconds=seconds), encoding="utf-8")
    run("observe", "--quiet", "--margin", "90 %")
    run("inspect", "--only", "plan", "--trials", "6", "--no-counts", "--quiet")
    said = " ".join(run("leads").stdout.split())
    assert "lie in work.wait, edited" in said
    assert "a surprise: " in said
    assert "work.nowhere: nothing of that name was met under after, expected 3 %." in said
    assert "work.fit looks for a member in the list taken, in a loop. To test it: keep its members in a set" in said
    account = json.loads(run("leads", "--json").stdout)
    jsonschema.validate(account, json.loads((ROOT / "docs" / "accounts.schema.json").read_text(encoding="utf-8")))
    wait, fit = account["accounts"][0]["leads"][:2]
    assert [(one["label"], one["by_surprise"]) for one in (wait, fit)] == [("work.wait", False), ("work.fit", True)]
    assert account["accounts"][0]["hints"][0]["kind"] == "sought-in-list"
    alone = json.loads(run("leads", "--arm", "after", "--json").stdout)
    jsonschema.validate(alone, json.loads((ROOT / "docs" / "leads.schema.json").read_text(encoding="utf-8")))
    assert (alone["expected"][0]["surprise"], alone["hints"][0]["line"]) == (True, 6)
    run("leads", "--to", "r.sarif", "--to", "leads.html")
    page = (tmp_path / "leads.html").read_text(encoding="utf-8")
    assert "Against what the study expected" in page
    assert "work.fit looks for a member in the list taken, in a loop. To test it: keep its members in a set" in page
    assert "; a surprise: " in page
    results = json.loads((tmp_path / "r.sarif").read_text(encoding="utf-8"))["runs"][0]["results"]
    assert results[1]["ruleId"] == "share-beyond-expected"

    ready = " ".join(run("leads", "--try", "1").stdout.split())
    assert "everything as under after, but work.wait as it is under before" in ready
    assert "time.sleep(0.01)" in (tmp_path / "try-1" / "work.py").read_text(encoding="utf-8")
    study, _ = load_study(tmp_path / "try-1.toml", tmp_path)
    assert [arm.name for arm in study.arms] == ["as-it-is", "tried"]
    todo = " ".join(run("leads", "--try", "3").stdout.split())
    assert "To do: edit try-3/work.py:6: keep its members in a set beside it." in todo
    assert (tmp_path / "try-3" / "work.py").read_text(encoding="utf-8") == WORK.format(seconds=0.06)
    for words, told in (
        (("--try", "1"), "is there already"), (("--try", "9"), "9 is none of them; there are 2 leads and 1 guess"),
        (("--try", "2", "--json"), "--try writes a study and shows nothing"),
    ):  # fmt: skip
        assert told in run("leads", *words, code=2).stderr
    assert "bystander leads quays-1/inspected-1 --try 1" in run("leads").stdout
    (tmp_path / "bystander.toml").unlink()
    assert "--try" not in run("leads").stdout  # a command that is printed must do what it says
    assert "has no study file here" in run("leads", "--try", "1", code=2).stderr


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ('"work.fit" = "110 %"', "is out of range; it must be above 0 and at most 100 %"),
        ('"work.fit" = 0', "is out of range"), ('"work.fit" = "much"', "is no share"),
        ('work.fit = "10 %"', 'a name with dots stands in quotes: "work.fit" = "10 %"'),
    ],
)  # fmt: skip
def test_wrong_expectations_are_told(tmp_path: Path, line: str, said: str) -> None:
    """In one sentence, with what would be right."""
    (tmp_path / "old").mkdir()
    (tmp_path / "new").mkdir()
    (tmp_path / "bystander.toml").write_text(STUDY.replace('"work.fit" = "2 %"', line), encoding="utf-8")
    with pytest.raises(StudyError) as raised:
        load_study(None, tmp_path)
    assert said in str(raised.value)


def test_an_edit_is_told_as_a_difference_of_its_function() -> None:
    """Lines are those of the files; only this function's; cut where it is long."""
    before = "x = 1\ndef f(a):\n    b = a\n    return b\ndef g():\n    return 1\n"
    after = "x = 2\n\n\ndef f(a):\n    b = a + 1\n    return b\ndef g():\n    return 2\n"
    assert hunk_of((before, after), "f", (2, 4), 40) == (
        "@@ -2,3 +4,3 @@", " def f(a):", "-    b = a", "+    b = a + 1", "     return b",
    )  # fmt: skip
    assert hunk_of((before, after), "f", (2, 4), 2) == ("@@ -2,3 +4,3 @@", " def f(a):", "...")
    assert hunk_of((before, after), "h", (1, 1), 40) == ()
    assert hunk_of((before, before), "f", (2, 2), 40) == ()
    assert hunk_of(("def f(:", after), "f", (1, 1), 40) == ()
