"""One function looked at closely: how often its lines run, against known sizes, and its calls by arguments."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import jsonschema
import pytest
from conftest import Run
from interpreters import COUNTED, interpreter

from bystander.design import PYTHON, Closely, ClosePlace, Parameter, Place, place_label
from bystander.evidence import CLOSELY_KIND, against_sizes, content_of, packed
from bystander.field import CLOSELY, CloseHook, ReadyCommand, hooked, read_closely

SCHEMA = json.loads((Path(__file__).parents[1] / "docs" / "within.schema.json").read_text(encoding="utf-8"))
PROGRAM = """\
import os, sys, threading
class Quay:
    def fit(self, ship, berths=(), *more, **named):
        for berth in berths:
            if berth >= ship:
                return berth
def tides(n):
    for k in range(n):
        yield k
def work():
    quay = Quay()
    for k in range(6):
        quay.fit(k % 3, [1, 2, 3], wind={"n": 1, "e": 2.0})
    quay.fit("x", (), object(), range(3), wind={"e": 2.0, "n": 1})
    quay.fit(0, [0] * 30000)
    list(tides(4))
threads = [threading.Thread(target=work) for _ in range(2)]
for one in threads: one.start()
for one in threads: one.join()
if not os.fork():
    work()
    os._exit(0)
os.wait()
"""


def looked_at(python: str, folder: Path, word: str, arguments: bool = True) -> Closely:
    """Run the program with the hook, and return what its processes told."""
    (folder / "quay.py").write_text(PROGRAM, encoding="utf-8")
    into = folder / "hooks"
    into.mkdir(exist_ok=True)
    words = [python, "-W", "ignore", "quay.py"]
    command = ReadyCommand(python, tuple(words), str(folder), {"PATH": os.environ["PATH"]}, 60)
    hook = CloseHook(word, str(folder), arguments)
    done = subprocess.run(
        words, cwd=folder, env=dict(hooked(command, (CLOSELY,), into, hook.variables).environment), capture_output=True,
        text=True, check=True,
    )  # fmt: skip
    assert done.stderr == ""
    return read_closely(into, arguments)


@pytest.mark.parametrize("version", COUNTED)
def test_lines_and_arguments_are_counted_on_every_version(version: str, tmp_path: Path) -> None:
    """In threads and forked children; values that hold the same are one, in any order of a table."""
    python = interpreter(version) or pytest.skip(f"there is no Python {version} here")
    found = looked_at(python, tmp_path, "fit" if version in COUNTED[:3] else "Quay.fit")
    (fit,) = found.places

    assert (found.processes, found.problems) == (2, ())
    assert fit.calls == 3 * 8  # two threads and a child
    # By k % 3 = 0, 1, 2 the loop begins 1, 1, 2 times; with 30,000 zeros once, with none never goes round.
    lines = dict(fit.lines)
    assert lines[5] == 3 * (2 * (1 + 1 + 2) + 1)
    assert lines[6] == 3 * (6 + 1)
    by_name = {one.name: one for one in fit.parameters}
    assert (by_name["ship"].distinct, by_name["named"].distinct) == (4, 2)
    assert by_name["self"].objects == ("Quay",)
    assert by_name["more"].objects == ("object",)
    assert by_name["berths"].cut
    assert not by_name["ship"].cut
    assert fit.most >= 2


def test_functions_are_meant_by_label_name_file_and_line(tmp_path: Path) -> None:
    """A comprehension belongs to the function around it; nothing is counted of what is not meant."""
    for word, labels in (
        ("quay.tides", ["quay.tides"]), ("quay.py:7", ["quay.tides"]), ("nothing", []),
        ("quay.[tw]*", ["quay.tides", "quay.work"]),
    ):  # fmt: skip
        found = looked_at(sys.executable, tmp_path, word, arguments=False)
        assert sorted(place_label(one.place) for one in found.places) == labels
        assert all(one.distinct is None and not one.parameters for one in found.places)
        for file in (tmp_path / "hooks").iterdir():
            file.unlink()
    (tides,) = looked_at(sys.executable, tmp_path, "tides").places
    assert (tides.calls, tides.resumed, dict(tides.lines)) == (3, 12, {8: 15, 9: 12})


@pytest.mark.parametrize(
    ("runs", "said"),
    [
        (400, "once for each of 400 berths"), (160_000, "400 berths x 400 berths"),
        (1200, "3 times for each of 400 berths"),
        (4000, "400 berths x 10 tides"), (4001, "400 berths x 10 tides"), (4100, ""), (7, ""), (0, ""), (1, ""),
        (64_000_000, "400 berths x 400 berths x 400 berths"),
    ],
)  # fmt: skip
def test_counts_are_held_against_known_sizes(runs: int, said: str) -> None:
    """The plainest product that they are; sizes of one say nothing."""
    assert against_sizes(runs, {"berths": 400.0, "tides": 10.0, "ones": 1.0}) == said


def test_what_was_counted_is_kept_and_checked() -> None:
    """There and back; what stands for nothing is refused."""
    given = (Parameter("x", 3, ("Quay",), True),)
    place = ClosePlace(Place(PYTHON, "f", "/f.py", 3), 7, 1, ((4, 7),), 3, 5, True, given)
    closely = Closely((place,), 2, ("one",))
    summary = {"block": 0, "status": "ok", "elapsed_s": 1.0, "items": {}, "processes": 2, "problems": []}
    assert content_of(packed(CLOSELY_KIND, closely, summary)) == closely
    table = CLOSELY_KIND.table(closely)
    for wrong in (-1, True, "3", 2**60):
        with pytest.raises(ValueError, match="no count"):
            CLOSELY_KIND.of_table({**table, "places": [{**table["places"][0], "calls": wrong}]})


STUDY = """
name = "quays"
[arms.before]
settings.n = 4
[arms.after]
settings.n = 8
[workloads.plan]
command = "python3 plan.py {n} {berths}"
inputs.berths = [5]
"""
PLAN = """
import sys
def pairs(n, berths):
    found = 0
    for ship in range(n):
        for berth in range(berths):
            found += fits(ship, berth % 2)
    return found
def fits(ship, berth):
    return ship > berth
pairs(int(sys.argv[1]), int(sys.argv[2]))
"""


def test_a_function_is_looked_at_closely_in_both_arms(run: Run, tmp_path: Path) -> None:
    """Through the program: both arms, one state, a command; shown again, as a document, and what cannot be is told."""
    (tmp_path / "bystander.toml").write_text(STUDY, encoding="utf-8")
    (tmp_path / "plan.py").write_text(PLAN, encoding="utf-8")
    run("observe", "--quiet", "--blocks", "6", "--margin", "90 %")
    counted = " ".join(run("inspect", "--only", "plan*", "--executions", "plan.pairs", "--quiet").stdout.split())
    assert "under before, plan.pairs" in counted
    assert "7 20 20 found += fits(ship, berth % 2)" in counted
    assert "7 40 40 found += fits(ship, berth % 2) ← 8 times for each of 5 berths" in counted
    assert "Two trials told the same." in counted
    again = run("leads", "--executions", "pairs", "--arm", "after").stdout
    assert "under after" in again
    assert "under before" not in again
    run("inspect", "--only", "plan*", "--arm", "after", "--arguments", "plan.fits", "--quiet")
    document = json.loads(run("leads", "--arguments", "plan.fits", "--json").stdout)
    jsonschema.validate(document, SCHEMA)
    (fits,) = document["arguments"]
    assert (fits["calls"], fits["distinct"], fits["most_alike"], fits["repeats"]) == (40, 16, 3, True)
    assert "60 % of the calls were given what an earlier one was" in fits["sentences"][1]
    jsonschema.validate(json.loads(run("leads", "--executions", "plan.pairs", "--json").stdout), SCHEMA)
    assert "never came to a function called plan.pears" in run(
        "inspect", "--only", "plan*", "--executions", "plan.pears", code=1
    ).stderr  # fmt: skip
    for words, said in (
        (("inspect", "--executions", "a", "--arguments", "b"), "one function is counted in one way at a time"),
        (("inspect", "--executions", "a", "--tick", "1 ms"), "--executions only counts; --tick does not apply"),
        (("leads", "--arguments", "a", "--down"), "--arguments shows counts of one function; --down does not apply"),
        (("leads", "--arguments", "plan.pairs"), "bystander inspect --arguments 'plan.pairs' counts that"),
    ):  # fmt: skip
        assert said in run(*words, code=2).stderr
    one = run("inspect", "--executions", "plan.fits", "--quiet", "--", "python3", "plan.py", "3", "3").stdout
    assert "9 calls a trial." in one
