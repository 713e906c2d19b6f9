"""`bystander inspect` and `bystander leads`, driven as a user does."""

from __future__ import annotations

import csv
import io
import json
import signal
import subprocess
import time
from pathlib import Path

import jsonschema
import pytest
from conftest import PROGRAM, Run
from interpreters import interpreter

from bystander.demo import FILES
from bystander.exchange.evidence_json import evidence_of

SCHEMA = json.loads((Path(__file__).parents[1] / "docs" / "leads.schema.json").read_text(encoding="utf-8"))
QUAY = """
import sys, time
def fit(ships):
    return sorted(range(ships), key=berth)
def berth(ship):
    x = 0
    for k in range(200):
        x += k * ship
    return x
def tide(hours):
    time.sleep(0.001 * hours)
    return hours
def main():
    for _ in range(10):
        fit(500)
    tide(30)
if __name__ == "__main__":
    main()
"""


@pytest.fixture
def python(tmp_path: Path) -> str:
    """An interpreter whose frames are read, and a program in the test's folder."""
    (tmp_path / "quay.py").write_text(QUAY, encoding="utf-8")
    return interpreter("3.12") or pytest.skip("there is no Python 3.12 here")


def places(document: dict) -> dict[str, dict]:
    return {place["label"]: place for place in document["places"]}


def test_one_command_shows_where_the_time_goes(installed: Run, run: Run, python: str) -> None:
    """Places by whole time with calls; the same again from what is kept, in other orders and forms."""
    done = installed("inspect", "--", python, "quay.py")
    lines = done.stdout.splitlines()
    assert lines[0].endswith("-now-1/inspected-1: " + Path(python).name + " under now")
    assert all(len(line) <= 80 for line in lines if "bystander " not in line)
    assert "\x1b" not in done.stdout
    for part in ("a trial:", "on a processor,", "waiting (", "calls;", "of the unwatched time", "readings."):
        assert part in " ".join(lines[1:6])
    names = [line.split()[0] for line in lines if line.startswith("quay.")]
    assert names[0] == "quay.main"
    assert {"quay.fit", "quay.berth", "quay.tide"} <= set(names)
    assert any(line.strip().startswith("quay.py:5") and "■" in line for line in lines)
    assert "Next: the same in another order" in done.stdout

    document = json.loads(run("leads", "--json", "--order", "calls").stdout)
    jsonschema.Draft202012Validator(SCHEMA).validate(document)
    found = places(document)
    by_calls = [place["calls"] or 0 for place in document["places"]]
    assert by_calls == sorted(by_calls, reverse=True)
    assert (found["quay.berth"]["calls"], found["quay.fit"]["calls"], found["sorted"]["calls"]) == (5000, 10, 10)
    assert document["calls_repeat"] is True
    assert found["sorted"]["whole_s"] is None
    assert found["quay.tide"]["whole_s"] == pytest.approx(0.03, rel=0.3)
    assert found["quay.berth"]["alone_s"] > 0.8 * found["quay.fit"]["whole_s"]
    assert document["readings"] >= 2000
    assert found["quay.main"]["whole_s"] + sum(group["whole_s"] for group in document["groups"]) == pytest.approx(
        document["elapsed_s"], rel=0.05
    )

    first = run("leads", "--order", "alone", "--first", "1").stdout
    assert [line.split()[0] for line in first.splitlines() if line.startswith("quay.")] == ["quay.berth"]
    assert "more, alone" in first
    assert len(run("leads", "--all").stdout.splitlines()) > len(first.splitlines()) + 20
    waiting = run("leads", "--view", "waiting", "--order", "alone", "--first", "2", COLUMNS="130").stdout
    # On a busy machine what computes waits too, for a processor.
    assert "quay.tide" in [line.split()[0] for line in waiting.splitlines() if "quay.py" in line]
    assert max(map(len, waiting.splitlines())) <= 130
    run("leads", "--to", "paths.csv", "--to", "leads.json")


def test_what_is_kept_can_be_read_carried_and_named(run: Run, python: str, tmp_path: Path) -> None:
    """CSV with one row a path; a record without timed trials says so; JSON carries inspections to another archive."""
    run("inspect", "--no-counts", "--quiet", "--trials", "1", "--", python, "quay.py")
    name = f"{Path(python).name.replace('.', '-')}-now-1"
    run("leads", "--to", "paths.csv", "--to", "leads.json")
    rows = list(csv.DictReader(io.StringIO((tmp_path / "paths.csv").read_text(encoding="utf-8"))))
    document = json.loads((tmp_path / "leads.json").read_text(encoding="utf-8"))
    assert sum(float(row["seconds"]) for row in rows) == pytest.approx(document["elapsed_s"], rel=0.01)
    assert document["calls"] is None
    assert any(row["path"].startswith("<module>:18 > main:15 > fit:4 > berth:") for row in rows)

    refused = run("decide", code=2).stderr
    assert f"record {name} was only looked into" in refused
    assert f"bystander leads {name}/inspected-1" in refused
    shown = run("records", "show").stdout
    assert f"  {name}/inspected-1: {Path(python).name} under now" in shown
    assert f"bystander leads {name}" in shown
    told = json.loads(run("records", "show", "--json").stdout)["inspections"]
    assert [(one["inspection"], one["state"], one["counted"]) for one in told] == [
        (f"{name}/inspected-1", "complete", False)
    ]
    run("records", "export", "--to", "record.json")
    taken = run("records", "import", "record.json", "--archive", "other.sqlite").stdout
    assert f"bystander leads {name} --archive other.sqlite" in taken
    assert f"{name}/inspected-1 --archive other.sqlite" in run("decide", "--archive", "other.sqlite", code=2).stderr
    again = json.loads(run("leads", f"{name}/inspected-1", "--json", "--archive", "other.sqlite").stdout)
    assert again == document
    refused = run("inspect", name, "--archive", "other.sqlite", code=2).stderr
    assert "what was imported is never run" in refused


def test_a_state_of_a_record_is_looked_into_in_its_very_arm(run: Run, python: str, tmp_path: Path, git) -> None:
    """With the study's command and settings; several inspections of a record are told apart, the newest is shown."""
    study = f"""
name = "quay"
blocks = 6
stopping = "fixed"
[arms.before]
revision = "HEAD"
settings.ships = 100
[arms.after]
revision = "HEAD"
settings.ships = 300
[workloads.fit]
call = "quay:fit"
given = [300]
python = "{python}"
[workloads.run]
command = "{python} -c 'import quay; quay.fit({{ships}})'"
"""
    (tmp_path / "bystander.toml").write_text(study, encoding="utf-8")
    git("init", "--quiet")
    git("add", "--all")
    git("commit", "--quiet", "-m", "quay")
    run("observe", "--quiet", "--only", "run")
    run("inspect", "--quiet", "--only", "run", "--arm", "before", "--trials", "1")
    run("inspect", "--quiet", "--only", "run", "--arm", "after", "--trials", "1")

    after, before = (json.loads(run("leads", "--json", *arm).stdout) for arm in ((), ("--arm", "before")))
    assert (after["inspection"], after["arm"]) == ("quay-1/inspected-2", "after")
    assert (before["inspection"], before["arm"]) == ("quay-1/inspected-1", "before")
    assert [places(one)["quay.berth"]["calls"] for one in (before, after)] == [100, 300]
    assert json.loads(run("leads", "quay-1/inspected-1", "--json").stdout) == before
    assert "calls counted" in run("records", "show", "quay-1").stdout
    assert "slower" in run("decide", "quay-1").stdout or "unclear" in run("decide", "quay-1").stdout

    run(
        "inspect",
        "--quiet",
        "--study",
        "bystander.toml",
        "--only",
        "fit",
        "--arm",
        "before",
        "--trials",
        "1",
        "--no-counts",
    )
    callable_ = json.loads(run("leads", "--json").stdout)
    assert callable_["workload"] == "fit"
    assert callable_["places"][0]["label"] == "quay.fit"
    assert {group["kind"] for group in callable_["groups"]} >= {"harness", "interpreter"}


def test_one_function_is_looked_into(run: Run, python: str, tmp_path: Path) -> None:
    """Its arguments stand as in a call; our own harness is kept apart."""
    named = str(Path(python).parent)
    (tmp_path / "python3").symlink_to(python)
    path = f"{tmp_path}:{named}:/usr/bin:/bin"
    shown = run(
        "inspect",
        "--quiet",
        "--call",
        "quay:tide",
        "--given",
        "hours=400",
        "--json",
        "--trials",
        "1",
        "--no-counts",
        PATH=path,
    ).stdout
    document = json.loads(shown)

    assert document["workload"] == "tide"
    assert document["places"][0]["label"] == "quay.tide"
    assert document["places"][0]["whole_s"] == pytest.approx(0.8, rel=0.1)  # as often as fills half a second
    assert document["waits_s"]["sleep"] == pytest.approx(document["places"][0]["whole_s"], rel=0.1)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--call", "quay"], 'names no callable; write for example tidebook.tides:level'),
        (["--call", "quay:fit", "--given", "x+"], "is no list of arguments"),
        (["--call", "quay:fit", "--given", "1, ships=2"], "name all arguments or none of them"),
        (["--given", "1"], "--given goes with --call"), (["--"], "-- stands before a command, and there is none"),
        (["--call", "quay:fit", "--", "true"], "a command and --call are both given"),
        (["--only", "year", "--", "true"], "--only chooses in a study or a record"),
        (["--order", "size", "--", "true"], '--order: "size" is none; there are change, whole, alone, calls, per-call'),
        (["--view", "size", "--", "true"], '--view: "size" is none; there are elapsed, processor, waiting'),
        (["--way", "sundial", "--", "true"], '--way: "sundial" is none'),
        (["--tick", "soon", "--", "true"], '--tick: "soon" is no duration'),
        (["--tick", "9 us", "--", "true"], '--tick: "9 us" is out of range; it must be from 250 us to 1 s'),
        (["--by-hand", "--trials", "2", "--", "true"], "--by-hand and --trials are both given"),
        ([], "there is no archive"),
        (["--", "no-such-program"], 'there is no program "no-such-program"'),
    ],
)  # fmt: skip
def test_what_cannot_be_looked_into_is_one_sentence(words: list[str], said: str, run: Run, python: str) -> None:
    """With what would be right."""
    done = run("inspect", *words, code=2)

    assert said in done.stderr
    assert done.stdout == ""


def test_leads_of_nothing_are_one_sentence(run: Run, study: Path) -> None:
    """A record without an inspection, an inspection that is not there, a file of no known kind."""
    run("observe", "--quiet", "--fixed", "2")
    assert "has no inspection yet; bystander inspect" in run("leads", code=2).stderr
    run("inspect", "--quiet", "--only", "say", "--arm", "after", "--trials", "1")
    assert (
        "has no inspection inspected-7; it has two-commands-1/inspected-1"
        in run("leads", "two-commands-1/inspected-7", code=2).stderr
    )
    assert (
        "--keep-environment does not apply"
        in run("inspect", "two-commands-1", "--keep-environment", "TZ", code=2).stderr
    )
    assert "has no inspection --arm before" in run("leads", "--arm", "before", code=2).stderr
    known = "leads are written as .html, .csv, .json, .sarif, .svg, .png or .pdf"
    assert known in run("leads", "--to", "leads.txt", code=2).stderr
    assert "no change is shown in record two-commands-1" in run("inspect", code=1).stderr
    both = run("inspect", "--only", "say", "--only", "wait", "--arm", "after", code=2).stderr
    assert "one state is looked into at a time; name one workload" in both
    assert "--order change is for two states" in run("leads", "--order", "change", code=2).stderr
    assert 'there is no arm "never"' in run("inspect", "--only", "say", "--arm", "never", code=2).stderr


def test_a_run_that_is_cut_or_stopped_keeps_its_view(run: Run, python: str, tmp_path: Path) -> None:
    """At its limit; and by Ctrl-C, which is how one that is driven by hand ends."""
    loop = "import time\ndef turn():\n while True: time.thread_time()\nturn()"
    cut = run("inspect", "--quiet", "--limit", "0.4 s", "--", python, "-c", loop).stdout
    assert "<string>.turn" in cut
    assert "1 watched trial was cut at its limit; what was seen until then is shown." in cut
    for options, code in (((), 130), (("--by-hand",), 0)):
        process = subprocess.Popen(
            [str(PROGRAM), "inspect", "--no-counts", *options, "--", python, "-c", loop], cwd=tmp_path, text=True,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        )  # fmt: skip
        assert process.stderr
        for line in process.stderr:
            if line.startswith("watching"):
                break
        time.sleep(0.5)
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=30)
        assert process.returncode == code, err
        assert "<string>.turn" in out
        assert "1 watched trial was stopped" in out


def test_counts_alone_are_shown_where_nothing_can_be_seen(run: Run, python: str) -> None:
    """The last of all ways; places by calls."""
    done = run("inspect", "--quiet", "--way", "counts", "--first", "4", "--", python, "quay.py").stdout

    assert "calls; nothing was watched." in done
    assert any(line.startswith("quay.berth") and "5,000" in line for line in done.splitlines())
    assert "only calls are counted (it was asked for)." in " ".join(done.split())


def test_a_program_that_fails_says_why(run: Run, python: str) -> None:
    """What was seen of it is shown, with the last line that it printed."""
    done = run(
        "inspect", "--quiet", "--", python, "-c", "sum(range(3000000)); raise SystemExit('no berth is free')"
    ).stdout

    assert "It said at its end: no berth is free" in done
    assert "1 watched trial ended with exit" in done


def test_an_inspection_from_elsewhere_is_not_believed() -> None:
    """Summaries of the recorded one with value after value spoilt: of the right types, or refused in one sentence."""
    document = json.loads((FILES / "recorded.json").read_text(encoding="utf-8"))
    packets = {one["kind"]: one for one in document["evidence"] if "run" in one}
    assert packets.keys() == {"stacks", "counts", "unwatched", "edits", "account", "answers-apart"}
    for content in (None, [], {"before": [1]}, {"before": None}):
        with pytest.raises((ValueError, TypeError)):
            evidence_of({**packets["answers-apart"], "content": content})
    refused = 0
    for kind in ("stacks", "counts"):
        packet = {**packets[kind], "content": shortened(packets[kind]["content"])}
        good = evidence_of(packet).summary
        for key in good:
            for value in (None, -1, "soon", [[]], {"a": "b"}, float("inf")):
                try:
                    read = evidence_of({**packet, "summary": {**good, key: value}}).summary
                except (ValueError, TypeError):
                    refused += 1
                else:
                    assert type(read[key]) is type(good[key]) or (key, value) == ("unwatched_s", None)
            if key == "answer":  # inspections of before told none
                continue
            with pytest.raises(ValueError, match="is missing or of the wrong type"):
                evidence_of({**packet, "summary": {name: one for name, one in good.items() if name != key}})
    assert refused > 60


def shortened(content: dict) -> dict:
    """Return evidence with a few readings or edges only."""
    columns = ("at_ns", "task", "node", "processor_ns", "queued_ns", "waiting_ns", "wait", "edges")
    return {**content, **{name: content[name][:5] for name in columns if name in content}}


def test_a_kill_leaves_nothing_running_and_nothing_broken(run: Run, python: str, tmp_path: Path) -> None:
    """SIGKILL in the middle of a watched trial: its program is ended, and an earlier inspection is still shown."""
    run("inspect", "--quiet", "--no-counts", "--trials", "1", "--", python, "quay.py")
    before = run("leads").stdout
    mark = f"quay-{tmp_path.name}"
    process = subprocess.Popen(
        [str(PROGRAM), "inspect", "--", python, "-c", "while True: pass", mark],
        cwd=tmp_path,
        text=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )
    assert process.stderr
    for line in process.stderr:
        if line.startswith("watching"):
            break
    time.sleep(0.3)
    process.kill()
    process.communicate()
    give_up = time.monotonic() + 20
    while subprocess.run(["pgrep", "-f", mark], capture_output=True, check=False).returncode == 0:
        assert time.monotonic() < give_up, "the program runs on"
        time.sleep(0.05)

    assert run("leads").stdout == before
    assert "unfinished" in run("records", "show").stdout
