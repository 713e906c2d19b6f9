"""Programs tell of themselves: phases, work, intervals and numbers become measures, and one trial is seen over time."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import numpy as np
import pytest
from builders import made_record
from conftest import Run

from bystander.archive import Archive
from bystander.design import TIMELINE, Evidence, Status, Timeline, TrialOutcome, measure_named, told_measure
from bystander.evidence import TrialFiles, content_of
from bystander.exchange import read_marks
from bystander.flow.trials.collected import with_evidence
from bystander.report import TrialSide, trial_svg
from bystander.verdicts import decide

SOURCE = Path(__file__).parents[1] / "src"
PROGRAM = """
import asyncio, multiprocessing, os, sys, threading, time
from bystander_marks import deadline, flush, interval, items, phase, reading

loops, count = int(sys.argv[1]), int(sys.argv[2])

def work(n):
    for _ in range(n): pass

@phase("print")
def table(): work(1000); return "table"

@phase("rows")
def rows():
    yield 1
    yield 2

@phase("fetch")
async def fetch():
    with phase("wait"):
        await asyncio.sleep(0.002)
    return "fetched"

def child(label):
    with phase("child", label):
        work(5000)

async def both():
    return await asyncio.gather(fetch(), fetch())

if __name__ == "__main__":
    with phase("parse"):
        work(loops)
        with phase("check"):
            work(1000)
    threads = [threading.Thread(target=child, args=(f"berth {i}",)) for i in range(2)]
    for one in threads: one.start()
    for one in threads: one.join()
    context = multiprocessing.get_context("fork")
    one = context.Process(target=child, args=("berth 9",)); one.start(); one.join()
    assert asyncio.run(both()) == ["fetched", "fetched"]
    assert table() == "table" and list(rows()) == [1, 2]
    for i in range(40): interval("answer", 0.001 * i)
    deadline("answer", 0.0355)
    items("telegrams", count); reading("pages", loops / 10, "pages/s", "more")
    phase("left open").__enter__()
"""
STUDY = """
blocks = {blocks}
seed = 4
{top}
[arms.before]
settings.loops = 200000
settings.count = 7
[arms.after]
settings.loops = 900000
settings.count = {count}
[workloads.w]
command = "{python} program.py {{loops}} {{count}}"
{more}
"""


@pytest.fixture
def office(tmp_path: Path) -> Path:
    """A folder with the program and its copy of the marks."""
    (tmp_path / "program.py").write_text(PROGRAM, encoding="utf-8")
    (tmp_path / "bystander_marks.py").write_bytes((SOURCE / "bystander_marks.py").read_bytes())
    return tmp_path


def written(folder: Path, top: str = "", more: str = "", count: int = 7, blocks: int = 8) -> None:
    """Write a study of the program."""
    text = STUDY.format(top=top, more=more, count=count, blocks=blocks, python=sys.executable)
    (folder / "bystander.toml").write_text(text, encoding="utf-8")


def told_by(office: Path, *words: str) -> tuple[str, dict[str, object]]:
    """Run a program by itself; return its lines, and how each phase went: how often, in how many lanes."""
    file = office / "told"
    subprocess.run(
        [sys.executable, *words], cwd=office, check=True, env={**os.environ, "BYSTANDER_MARKS": str(file)}, timeout=60
    )
    data = file.read_bytes()
    line = read_marks(data, 0, 10**18, 0).timeline
    counts = {
        name: (int((line.name == i).sum()), len(set(line.lane[line.name == i].tolist())))
        for i, name in enumerate(line.names)
    }
    return data.decode(), counts


def test_marks_tell_threads_processes_tasks_and_what_never_ended(office: Path) -> None:
    """Decorated functions give what they gave; each phase is told once for every call."""
    text, counts = told_by(office, "program.py", "1000", "7")

    assert counts == {
        "parse": (1, 1), "check": (1, 1), "child": (3, 3), "fetch": (2, 1), "wait": (2, 1), "print": (1, 1),
        "rows": (1, 1), "left open": (1, 1),
    }  # fmt: skip
    assert text.count("\ncost\t") >= 1
    assert "items\ttelegrams\t7\n" in text
    assert text.endswith("\n")


def test_a_program_that_nobody_listens_to_is_left_alone(office: Path) -> None:
    """No file, no output, the same results."""
    environment = {name: value for name, value in os.environ.items() if name != "BYSTANDER_MARKS"}
    done = subprocess.run(
        [sys.executable, "program.py", "10", "7"], cwd=office, env=environment, capture_output=True, timeout=60,
        check=True,
    )  # fmt: skip
    nowhere = {**environment, "BYSTANDER_MARKS": "/nowhere/told"}
    subprocess.run([sys.executable, "program.py", "10", "7"], cwd=office, env=nowhere, timeout=60, check=True)

    assert (done.stdout, done.stderr) == (b"", b"")
    assert {path.name for path in office.iterdir()} - {"__pycache__"} == {"bystander_marks.py", "program.py"}


def test_errors_go_on_through_phases_and_hard_exits_lose_little(office: Path) -> None:
    """An error ends its phase; a process that is killed has told what was held longer than 50 ms."""
    (office / "hard.py").write_text(
        "import os, time\nfrom bystander_marks import phase\n"
        "for i in range(3):\n    with phase('slept'):\n        time.sleep(0.06)\n"
        "try:\n    with phase('broken'):\n        raise KeyError('x')\nexcept KeyError:\n    print('caught')\n"
        "os._exit(0)\n",
        encoding="utf-8",
    )
    _, counts = told_by(office, "hard.py")

    assert counts["slept"][0] == 3


def test_a_study_decides_on_a_phase(run: Run, office: Path) -> None:
    """The phase is the headline, the whole and all else told are other measures, and trials to see are named."""
    written(office, 'measure = "phase:parse"')
    checked = run("check", "--placebo-blocks", "3").stdout
    run("observe", "--quiet")
    document = json.loads(run("decide", "--json").stdout)
    rows = {row["measure"]: row for row in document["results"]}
    text = run("decide").stdout

    assert "w tells: phases parse, check, child, fetch, wait, print and 2 more" in " ".join(checked.split())
    assert "40 intervals answer, due in 35.5 ms" in " ".join(checked.split())
    assert document["measure"] == "phase:parse"
    assert rows["phase:parse"]["verdict"] == "slower"
    assert rows["phase-alone:parse"]["verdict"] in ("slower", "unclear")
    assert rows["reading:pages"]["ratio"] == pytest.approx(4.5)
    assert rows["reading:pages"]["verdict"] in ("higher", "unclear")
    assert rows["interval:answer:missed"]["reference"]["median"] == pytest.approx(4 / 40)
    assert rows["interval:answer:p95"]["reference"]["median"] == pytest.approx(0.001 * 0.95 * 39)
    assert "interval:answer:p99" not in rows  # 40 intervals say nothing of the slowest hundredth
    assert "phase-alone:child" not in rows  # nothing is ever inside
    assert {"elapsed", "unmarked"} <= rows.keys()
    assert "phase-unended" in {note["code"] for note in rows["phase:parse"]["notes"]}
    assert document["trials_to_see"][0]["workload"] == "w"
    assert f"--trial {document['trials_to_see'][0]['middle']}" in text


def test_phases_add_up(run: Run, office: Path) -> None:
    """Alone is with inside less what is inside; covered and unmarked make the whole trial."""
    written(office, blocks=2)
    run("observe", "--quiet")
    with Archive(office / ".bystander" / "archive.sqlite") as archive:
        record, packets = archive.load(), archive.evidence(None, TIMELINE, 0, 1)
    names = [measure.name for measure in record.head.measures]
    row = int(np.flatnonzero((record.trials.block == 1) & (record.trials.arm == 1))[0])
    read = dict(zip(names, record.trials.readings[row].tolist(), strict=True))
    line = content_of(packets[1])
    moments = np.zeros(line.length_ns // 1000 + 1, dtype=bool)  # microseconds, counted one by one
    for begin, end in zip(line.begin_ns // 1000, line.end_ns // 1000, strict=True):
        moments[begin:end] = True

    assert read["phase:parse"] == pytest.approx(read["phase-alone:parse"] + read["phase:check"], abs=2e-9)
    assert read["unmarked"] == pytest.approx((~moments).sum() / 1e6, abs=len(line) * 2e-6)
    assert read["elapsed"] == pytest.approx(line.length_ns / 1e9)
    assert 0 < read["marks_cost"] < 0.01


def test_a_measure_that_nothing_tells_is_refused(run: Run, office: Path) -> None:
    """One sentence with what there is, before hours are spent."""
    written(office, 'measure = "phase:parze"')
    for command in ("check", "observe"):
        said = run(command, code=2).stderr
        assert 'measure: "phase:parze" was not told by w under before; it told phase:' in said


def test_other_work_is_told_as_loudly_as_another_answer(run: Run, office: Path) -> None:
    """In check, decide, its JSON and the gate."""
    written(office, count=8)
    checked = run("check", "--placebo-blocks", "0").stdout
    run("observe", "--quiet")
    decided = run("decide").stdout
    run("decide", "--gate", "other-work", code=3)

    assert "w: after does other work than before: items: telegrams 8 against 7." in " ".join(checked.split())
    assert "1 with other work" in " ".join(decided.split())
    assert "before and after do not do the same work: items: telegrams 7 and 8." in " ".join(decided.split())


def test_any_language_tells_by_lines_and_by_spans(run: Run, tmp_path: Path) -> None:
    """A shell appends lines with the wall clock; a program leaves spans, and those of earlier trials do not count."""
    (tmp_path / "trial.sh").write_text(
        "printf 'begin\\t%s\\tload\\n' $(date +%s%N) >> $BYSTANDER_MARKS\nsleep 0.01\n"
        "printf 'end\\t%s\\tload\\n' $(date +%s%N) >> $BYSTANDER_MARKS\n"
        "s=$(date +%s%N); e=$((s + 3000000))\n"
        'printf \'{"resourceSpans":[{"scopeSpans":[{"spans":[{"spanId":"01","name":"pack",'
        '"startTimeUnixNano":"%s","endTimeUnixNano":"%s"}]}]}]}\\n\' $s $e >> spans.json\nsleep 0.01\n',
        encoding="utf-8",
    )
    (tmp_path / "bystander.toml").write_text(
        '[arms.now]\n[workloads.w]\ncommand = "sh trial.sh"\nspans = "spans.json"\n', encoding="utf-8"
    )
    run("observe", "--quiet", "--blocks", "3")
    alone = {s["measure"]: s for s in json.loads(run("decide", "--json").stdout)["arms_alone"]}

    assert 0.009 < alone["phase:load"]["median"] < 0.2
    assert alone["phase:pack"]["median"] == pytest.approx(0.003, abs=1e-6)
    assert alone["phase:pack"]["least"] == pytest.approx(alone["phase:pack"]["most"], abs=1e-6)


def test_one_trial_is_drawn_and_exported(run: Run, office: Path) -> None:
    """A page, a picture and spans; both arms on one axis; wrong names are told with a right one."""
    written(office, blocks=3)
    run("observe", "--quiet")
    for name in ("t.html", "t.svg", "t.json"):
        run("records", "show", "--trial", "w/1", "--to", name)
    page = (office / "t.html").read_text(encoding="utf-8")
    picture = ElementTree.parse(office / "t.svg").getroot()
    spans = [json.loads(line) for line in (office / "t.json").read_text(encoding="utf-8").splitlines()]
    drawn = ["".join(one.itertext()) for one in picture.iter() if one.tag.endswith("title")]

    assert "w, block 1" in page
    assert "Marking the phases took about: before " in page
    assert "before: " in page
    assert "after: " in page
    assert sum(text.startswith("parse:") for text in drawn) == 2
    assert any("left open" in text and "never ended" in text for text in drawn)
    assert any(" on a processor" in text for text in drawn)
    assert len(spans) == 2
    assert "over time: w/" in run("records", "show").stdout
    for words, clause in (
        (("--trial", "w/9", "--to", "t.svg"), "has no block 9 of w"),
        (("--trial", "sluice/1", "--to", "t.svg"), "write WORKLOAD/BLOCK or WORKLOAD/BLOCK/ARM, for example w/0"),
        (("--trial", "w/1", "--to", "t.png"), 'not as ".png"'),
        (("--trial", "w/1"), "--trial and --to go together"),
    ):
        assert clause in " ".join(run("records", "show", *words, code=2).stderr.split())


def test_a_whole_record_goes_through_json_with_its_phases(run: Run, tmp_path: Path) -> None:
    """What is exported and imported elsewhere is decided, drawn and exported the same; damage is told."""
    run("demo", "office", "--recorded")
    office = tmp_path / "office"
    run("records", "export", "--to", "whole.json", cwd=office)
    run("records", "import", str(office / "whole.json"), "--archive", "other.sqlite")
    run("records", "export", "--to", "again.json", "--archive", "other.sqlite")
    for name, words, folder in (
        ("a.svg", (), office),
        ("b.svg", ("--archive", str(tmp_path / "other.sqlite")), office),
    ):
        run("records", "show", "--trial", "chart/4", "--to", name, *words, cwd=folder)
    whole, again = (json.loads(p.read_text(encoding="utf-8")) for p in (office / "whole.json", tmp_path / "again.json"))
    decided = json.loads(run("decide", "--json", cwd=office).stdout)

    assert whole["evidence"]
    assert sorted(map(json.dumps, whole["evidence"])) == sorted(map(json.dumps, again["evidence"]))
    assert (office / "a.svg").read_bytes() == (office / "b.svg").read_bytes()
    assert "chart/" in str(decided["trials_to_see"])
    assert any(
        note["code"] == "part-and-whole"
        for row in decided["results"]
        if row["workload"] == "chart"
        for note in row["notes"]
    )
    wrong = json.loads(json.dumps(whole))
    for change in (
        {"trial": 10**9}, {"summary": {"labels": {"draw": {"a": "soon"}}}}, {"summary": {"problems": 3}},
        {"kind": "tides"}, {"version": "new"}, {"run": 99},
    ):  # fmt: skip
        one = {**wrong["evidence"][0], **change}
        if "run" in change:
            one = {**{key: value for key, value in one.items() if key != "trial"}, "workload": 0, "arm": 0}
        (tmp_path / "wrong.json").write_text(json.dumps({**wrong, "uuid": "w", "evidence": [one]}), encoding="utf-8")
        assert "damaged" in run("records", "import", "wrong.json", "--archive", "third.sqlite", code=2).stderr
    for key, value in (("around", 99), ("names", []), ("end_ns", -5)):
        broken = json.loads(json.dumps(whole))
        line = broken["evidence"][0]["content"]
        line[key] = value if key == "names" else [value] * len(line[key])
        (tmp_path / "broken.json").write_text(json.dumps({**broken, "uuid": key}), encoding="utf-8")
        said = run("records", "import", "broken.json", "--archive", "third.sqlite", code=2).stderr
        assert "damaged: timeline" in said


def test_samples_of_a_callable_are_drawn(run: Run, tmp_path: Path) -> None:
    """One dot a sample, the cold ones hollow."""
    (tmp_path / "office.py").write_text("def spin():\n    return sum(range(50))\n", encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(
        f'[arms.now]\n[workloads.w]\ncall = "office:spin"\npython = "{sys.executable}"\nsample = "1 ms"\nsamples = 9\n',
        encoding="utf-8",
    )
    run("observe", "--quiet", "--blocks", "2")
    run("records", "show", "--trial", "w/0", "--to", "t.svg")
    picture = ElementTree.parse(tmp_path / "t.svg").getroot()
    dots = {one.get("class"): one.get("d", "").count("h0") for one in picture.iter() if one.tag.endswith("path")}

    assert dots["cold"] + dots["dot"] == 9
    assert dots["hole"] == dots["cold"] >= 3


def test_a_hundred_thousand_instances_are_a_few_shapes() -> None:
    """What lies within a pixel is one bar, so that a page of any trial opens."""
    n = 100_000
    begin = np.arange(n, dtype=np.int64) * 10_000
    zero = np.zeros(n, dtype=np.int64)
    line = Timeline(
        ("ask",), ("",), (), begin, begin + 9_000, zero - 1, zero, zero, zero, zero - 1, zero.astype(bool), n * 10_000
    )
    from bystander.design import Lane

    svg = trial_svg("many", [TrialSide("now", "1 s", Timeline(**{**vars(line), "lanes": (Lane(1, 1),)}))])

    assert svg.count("<rect") < 6000
    assert "times ask" in svg


def test_an_instance_that_stands_out_is_named() -> None:
    """One berth of six takes three times as long; six alike are passed over."""
    times = {f"berth {i}": 0.010 + 0.0001 * i for i in range(6)}
    for factor, expected in ((3.0, True), (1.0, False)):
        record = made_record({"w": {"before": [0.1] * 8, "after": [0.1] * 8}})
        summary = {"problems": {}, "labels": {"plan": {**times, "berth 4": times["berth 4"] * factor}}}
        told = dict.fromkeys(range(len(record.trials)), (Evidence(TIMELINE, 1, summary),))
        notes = decide(type(record)(record.head, record.trials, evidence=told)).primary[0].notes

        assert any("Phase plan: berth 4 takes 3.1 times" in note.text for note in notes) == expected


@pytest.mark.parametrize(("share", "expected"), [(0.02, True), (0.005, False)])
def test_dear_marks_are_told(share: float, expected: bool) -> None:
    """Over a hundredth of a trial is said."""
    record = made_record(
        {"w": {"before": [0.1] * 8, "after": [0.1] * 8}},
        more={"marks_cost": {"w": {"before": [0.1 * share] * 8, "after": [0.1 * share] * 8}}},
    )
    measures = (measure_named("elapsed"), told_measure("marks_cost"))
    head = type(record.head)(**{**vars(record.head), "measures": measures})
    packet = Evidence(TIMELINE, 1, {"problems": {}, "labels": {}})
    told = dict.fromkeys(range(len(record.trials)), (packet,))

    assert decide(type(record)(head, record.trials, evidence=told)).primary[0].has("marks-cost") == expected


def test_a_part_that_changes_without_the_whole_is_told() -> None:
    """The phase is half as long and the whole the same: something else is the limit."""
    chance = np.random.default_rng(3)
    whole = {arm: (0.1 * np.exp(chance.normal(0, 0.002, 20))).tolist() for arm in ("before", "after")}
    phase = {
        arm: (base * np.exp(chance.normal(0, 0.002, 20))).tolist() for arm, base in (("before", 0.04), ("after", 0.02))
    }
    record = made_record({"w": whole}, more={"phase:plan": {"w": phase}})
    measures = (measure_named("elapsed"), told_measure("phase:plan"))
    head = type(record.head)(**{**vars(record.head), "measures": measures})
    row = decide(type(record)(head, record.trials)).primary[0]

    assert row.verdict == "same"
    assert any("Phase plan is faster, but the whole is same" in note.text for note in row.notes)


def test_a_phase_that_is_not_there_took_no_time() -> None:
    """In a trial of a program with phases; where nothing was told, nothing is known."""
    nan = float("nan")
    more = {
        "phase:plan": {"w": {"before": [0.02] * 8, "after": [nan] * 8}},
        "unmarked": {"w": {"before": [0.05] * 8, "after": [0.05] * 4 + [nan] * 4}},
    }
    record = made_record({"w": {"before": [0.1] * 8, "after": [0.1] * 8}}, more=more)
    measures = (measure_named("elapsed"), told_measure("phase:plan"), told_measure("unmarked"))
    head = type(record.head)(**{**vars(record.head), "measures": measures})
    row = next(r for r in decide(type(record)(head, record.trials)).secondary if r.measure.name == "phase:plan")

    assert (row.scale, row.estimate, row.blocks) == ("difference", -0.02, 4)


def test_an_absent_file_changes_nothing(tmp_path: Path) -> None:
    """A program that tells nothing has the readings that it had."""
    outcome = TrialOutcome(Status.OK, 0, 1e9, 1.0, {"elapsed": 0.5})

    assert with_evidence(outcome, TrialFiles(tmp_path / "output", tmp_path / "told")) is outcome
