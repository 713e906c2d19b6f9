"""`bystander inspect [RECORD]` and its leads, driven as a user does: where did it change?"""

from __future__ import annotations

import csv
import io
import json
import shutil
import signal
import subprocess
import time
import tomllib
import types
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from conftest import PROGRAM, Run
from interpreters import interpreter

from bystander.archive import Archive
from bystander.cli import demo as demo_command
from bystander.demo import FILES
from bystander.design import inspections
from bystander.errors import ArchiveError, InspectionError
from bystander.flow.inside.side_by_side import Plan, SideBySide, Tried

SCHEMA = json.loads((Path(__file__).parents[1] / "docs" / "accounts.schema.json").read_text(encoding="utf-8"))
QUAY = """
def weigh(cargo):
    total = 0
    for k in range(700):
        total += k * cargo % 7
    return total
def tide(hours):
    return sum(hour * 37 % 101 for hour in range(hours))
def plan(ships):
    {plan}
    return known
if __name__ == "__main__":
    tide(80000)
    plan(600)
    print("planned")
"""
ONCE = "known = [weigh(ship) for ship in range(ships)]"
AGAIN = "known = [max(weigh(s), weigh(s + 1), weigh(s + 2), weigh(s + 3)) for s in range(ships)]"
STUDY = """
name = "quay"
blocks = 12
stopping = "fixed"
[arms.before]
folder = "v1"
[arms.after]
folder = "v2"
[workloads.day]
command = "{python} quay.py"
answer = "output"
[workloads.hello]
command = "{python} -c 'print(1)'"
"""


@pytest.fixture
def observed(tmp_path: Path, run: Run) -> Path:
    """A record of a change that was observed: `plan` weighs four times what it weighed once."""
    python = interpreter("3.12") or pytest.skip("there is no Python 3.12 here")
    for arm, plan in (("v1", ONCE), ("v2", AGAIN)):
        (tmp_path / arm).mkdir()
        (tmp_path / arm / "quay.py").write_text(QUAY.replace("{plan}", plan), encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(STUDY.replace("{python}", python), encoding="utf-8")
    run("observe", "--quiet", "--only", "day")
    return tmp_path


def test_a_change_is_accounted_for(observed: Path, run: Run) -> None:
    """Account, lead, calls and advice; the same from what is kept, in other forms; decide and report name it."""
    assert "bystander inspect quay-1 --only day\n" in run("decide").stdout
    done = run("inspect", "--trials", "8")
    text = " ".join(done.stdout.split())
    assert "day: up to 8 blocks, then calls are counted: at most" in done.stderr
    assert done.stdout.startswith("quay-1/inspected-1: day, before (○) and after (●)\nTimed, unwatched: slower")
    assert "lie in quay.plan, edited, with quay.weigh, calls quay.weigh 2,400 times instead of 600 times" in text
    assert "To test it: an arm in which quay.plan calls quay.weigh as often as before." in text
    assert "Elapsed time of the main thread; 8 blocks" in text
    assert all(len(line) <= 80 for line in done.stdout.splitlines() if "bystander " not in line)

    document = json.loads(run("leads", "--json").stdout)
    jsonschema.validate(document, SCHEMA)
    (account,) = document["accounts"]
    lead = account["leads"][0]
    assert (account["workload"], account["blocks"], account["calls_repeat"]) == ("day", 8, True)
    assert (lead["place"]["name"], lead["code"], lead["takes"][0]["name"]) == ("plan", "edited", "weigh")
    assert lead["seconds"]["shown"]
    sums = account["explained"]["change_s"] + account["rest"]["change_s"]
    assert sums == pytest.approx(account["whole"]["change_s"], abs=1e-9)
    code = {place["name"]: place["code"] for place in account["places"] if place["file"] and "quay.py" in place["file"]}
    assert (code["plan"], code["weigh"], code["tide"]) == ("edited", "untouched", "untouched")

    run("leads", "--to", "places.csv", "--to", "leads.json")
    rows = list(csv.DictReader(io.StringIO((observed / "places.csv").read_text(encoding="utf-8"))))
    weigh = next(row for row in rows if row["name"] == "weigh")
    assert (weigh["calls_before"], weigh["calls_after"], weigh["code"]) == ("600", "2400", "untouched")
    assert float(weigh["whole_change_s"]) > 0
    ordered = run("leads", "--order", "calls", "--first", "3").stdout
    assert "All places by calls, with what they call:" in ordered
    alone = json.loads(run("leads", "--arm", "before", "--json").stdout)
    assert {one["label"]: one["calls"] for one in alone["places"]}["quay.weigh"] == 600

    lines = run("leads", "--only", "day", "--lines", "quay.plan").stdout
    assert "known = [max(weigh(s)" in lines
    assert "known = [weigh(ship) for ship" in lines
    assert "quay.plan (quay.py:9)" in lines

    decided = run("decide").stdout
    assert "First lead, watched: quay.plan, edited, +" in " ".join(decided.split())
    assert "bystander leads quay-1 --only day" in decided
    assert json.loads(run("decide", "--json").stdout)["accounts"][0]["leads"][0].startswith("quay.plan, edited")
    for name in ("page.html", "page.md"):
        run("report", "--to", name)
    page, markdown = ((observed / name).read_text(encoding="utf-8") for name in ("page.html", "page.md"))
    assert "<h4>Where it changed</h4>" in page
    assert "v1/quay.py" not in page
    assert "| quay.plan<br>quay.py:9 |" in markdown

    run("records", "export", "--to", "out.json")
    run("records", "import", "out.json", "--archive", "other.sqlite")
    assert json.loads(run("leads", "--json", "--archive", "other.sqlite").stdout)["accounts"][0]["leads"][0] == lead
    refused = run("inspect", "quay-1", "--archive", "other.sqlite", code=2).stderr
    assert "what was imported is never run" in refused


def test_an_inspection_is_gone_on_with(observed: Path, run: Run) -> None:
    """Ctrl-C in the middle: blocks that are whole stay, no other is run twice, and counts follow."""
    process = subprocess.Popen(
        [str(PROGRAM), "inspect", "--only", "day", "--trials", "7"], cwd=observed, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    assert process.stderr
    for line in process.stderr:
        if line.startswith("watching day: "):
            break
    time.sleep(0.3)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    assert "bystander inspect --resume goes on" in err
    assert "quay-1/inspected-1" in run("leads").stdout
    assert "unfinished" in run("records", "show", "quay-1").stdout

    done = run("inspect", "--resume")
    assert "7 blocks;" in done.stdout
    (account,) = json.loads(run("leads", "--json").stdout)["accounts"]
    weigh = next(place for place in account["places"] if place["name"] == "weigh")
    assert (weigh["calls_before"], weigh["calls_after"], weigh["code"]) == (600, 2400, "untouched")
    with Archive(observed / ".bystander" / "archive.sqlite") as kept:
        head = kept.head("quay-1")
        (one,) = inspections(head)
        told = kept.load_run(head.uuid, one.number).trials
        assert sorted(set(told.block.tolist())) == list(range(7))
        assert len(told.block) == 14
    assert "there is nothing to resume" in run("inspect", "--resume", code=2).stderr


def test_what_cannot_be_held_side_by_side_is_one_sentence(observed: Path, run: Run) -> None:
    """With what would be right; an arm that changed where it lies and a trial that fails are told before any block."""
    for words, code, said in (
        (("--only", "never"), 2, 'record quay-1 has no workload "never"'),
        (("--resume", "--only", "day"), 2, "--resume goes on with what was asked for then"),
        (("--way", "counts", "--only", "day"), 1, "two states cannot be watched here, only counted"),
        (("--order", "size"), 2, "there are change, whole, alone, calls, per-call"),
    ):
        assert said in run("inspect", *words, code=code).stderr
    (observed / "v2" / "quay.py").write_text("raise SystemExit(3)\n", encoding="utf-8")
    assert "arm after is not what it was" in run("inspect", "--only", "day", code=1).stderr
    run("observe", "--quiet", "--only", "day")
    failed = run("inspect", "quay-2", "--only", "day", code=1).stderr
    assert "day ends with exit under after; look into that state alone: bystander inspect quay-2" in failed
    assert "has no inspection yet" in run("leads", "quay-2", code=2).stderr


def test_a_full_disk_is_told_before_the_first_block(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """With what it may take, and what would take less."""
    monkeypatch.setattr(shutil, "disk_usage", lambda _path: types.SimpleNamespace(free=70 * 2**20))
    nothing: Any = None
    side = SideBySide(nothing, 0, (0, 1), *[nothing] * 6, seed=1, plan=Plan(), account=nothing)
    side.check_space(Tried(1_000_000, (1.0, 1.0), 2_000, True), tmp_path / "archive.sqlite")

    with pytest.raises(ArchiveError, match=r"70.0 MiB free, and this inspection may take 1[0-9]+ MiB; a longer --tick"):
        side.check_space(Tried(250_000, (60.0, 60.0), 200_000, True), tmp_path / "archive.sqlite")


def test_the_recorded_inspections_say_what_is_true(run: Run) -> None:
    """Leads of the demo are at the places that its truths name."""
    run("demo", "harbour", "--recorded")
    truths = tomllib.loads((FILES / "truths.toml").read_text(encoding="utf-8"))
    document = json.loads(run("leads", "--json", "--archive", "harbour/.bystander/archive.sqlite").stdout)
    accounts = {one["workload"]: one for one in document["accounts"]}

    assert accounts.keys() == {"gauge", "chart"}
    for workload, one in accounts.items():
        assert one["leads"][0]["label"] in truths[workload]["leads"]
    assert accounts["gauge"]["leads"][0]["code"] == "edited"
    assert not accounts["chart"]["whole"]["shown"]


def test_a_demo_that_may_not_watch_shows_what_was_recorded(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """It says so, marks it as recorded, and ends well."""
    from bystander.flow.commands.demo import lay_out
    from bystander.flow.inside import changed

    def forbidden(*_words: object, **_options: object) -> None:
        raise InspectionError("the kernel says no")

    lay_out(tmp_path / "harbour")
    archive = tmp_path / "harbour" / ".bystander" / "archive.sqlite"
    monkeypatch.setattr(changed, "inspect_changed", forbidden)
    shown = demo_command._inspected(archive, "not-there", False)
    said = " ".join(capsys.readouterr().out.split())

    assert shown == "harbour-office-1"
    assert "Here it cannot be watched: the kernel says no. Recorded before, on another machine" in said
    assert "telegrams.parse" in said
