"""The installed program, on files in a folder of its own, as a user runs it."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import time
import tomllib
from contextlib import suppress
from pathlib import Path

import jsonschema
import pytest
from conftest import PROGRAM, Run, Running

import bystander
from bystander.demo import FILES
from bystander.flow.commands.demo import lay_out

ROOT = Path(__file__).parents[1]
SCHEMA = json.loads((ROOT / "docs" / "verdicts.schema.json").read_text(encoding="utf-8"))
LONG = bool(os.environ.get("BYSTANDER_LONG"))  # make campaign
TRUTHS = tomllib.loads((FILES / "truths.toml").read_text(encoding="utf-8"))


def verdicts(run: Run, *words: str, **more: object) -> dict:
    """Return the document of `decide --json`, which keeps to its schema."""
    document = json.loads(run("decide", *words, "--json", **more).stdout)
    jsonschema.validate(document, SCHEMA)
    return document


def primary(document: dict) -> dict[str, dict]:
    return {row["workload"]: row for row in document["results"] if row["primary"]}


def hold_against_truths(document: dict, exactly: bool) -> None:
    """Compare rows with what is true of the demo's workloads; a live row may be unclear."""
    rows = primary(document)
    assert set(rows) == set(TRUTHS)
    for name, truth in TRUTHS.items():
        row = rows[name]
        if exactly or "same" not in truth["elapsed"]:
            assert row["verdict"] in [*truth["elapsed"], *(() if exactly else ("unclear",))], name
        else:  # noise may well show a change where there is none, but hardly one beyond the margin
            assert row["relevance"] != "beyond", name
        other = any(note["code"] == "answer-differs" for note in row["notes"])
        assert other == (truth["answer"] == "other"), name
        for other_row in document["results"]:
            if other_row["workload"] == name and other_row["measure"] in truth and not other_row["primary"]:
                unsure = () if exactly else ("unclear",)
                assert other_row["verdict"] in [*truth[other_row["measure"]], *unsure], (name, other_row["measure"])


def test_the_recorded_demo_is_decided_as_its_truths_say(installed: Run, tmp_path: Path) -> None:
    """Exactly: several times faster, a third slower, same, another answer, more memory; all files are there."""
    done = installed("demo", "office", "--recorded")
    office = tmp_path / "office"
    document = verdicts(installed, cwd=office)
    rows = primary(document)

    hold_against_truths(document, exactly=True)
    assert rows["berths"]["verdict"] == rows["start"]["verdict"] == "same"
    assert 0.2 < rows["year:port=north"]["ratio"] < 0.4
    assert 1.2 < rows["gauge"]["ratio"] < 1.45
    assert rows["gauge"]["relevance"] == "beyond"
    assert "harbour-desk" in (office / "review.html").read_text(encoding="utf-8")
    assert "1 with another answer" in done.stdout
    assert max(len(line) for line in done.stdout.splitlines()) <= 80
    again = installed("demo", "office", code=2)
    assert "not empty" in again.stderr


@pytest.mark.slow
def test_the_live_demo_points_the_same_way(installed: Run, tmp_path: Path) -> None:
    """A real observation here agrees with the truths by direction, and is complete.

    Here in 10 blocks; in the long form by `bystander demo` as it stands.
    """
    if LONG:
        installed("demo", "office")
    else:
        lay_out(tmp_path / "office")
        installed("observe", "--blocks", "10", cwd=tmp_path / "office")
    document = verdicts(installed, cwd=tmp_path / "office")

    assert document["complete"]
    hold_against_truths(document, exactly=False)


def test_the_demo_can_show_failures(run: Run, tmp_path: Path) -> None:
    """One workload fails three times of four, one hangs: both are told with how and what they said."""
    office = lay_out(tmp_path / "office", with_failures=True).parent
    truths = tomllib.loads((office / "truths.toml").read_text(encoding="utf-8"))
    run("observe", "--quiet", "--only", "roster", cwd=office)
    roster = verdicts(run, cwd=office)
    run("observe", "--quiet", "--only", "pilot-call", "--blocks", "6", cwd=office)
    call = verdicts(run, cwd=office)
    said = run("decide", cwd=office).stdout

    assert set(truths) - set(TRUTHS) == {"roster", "pilot-call"}
    for document in (roster, call):
        for name, row in primary(document).items():
            assert [row["verdict"]] == truths[name]["elapsed"]
            assert row["reference"]["failed"] == 0
    assert "NoPilotError" in roster["failures"][0]["said"]
    assert call["failures"][0]["ways"] == [{"way": "cut at its limit", "trials": 6}]
    assert "pilot-call, arm after: 6 of 6 trials failed (cut at its limit)" in " ".join(said.split())
    assert "do not go together" in run("demo", "other", "--recorded", "--with-failures", code=2).stderr


def test_one_command_is_timed_without_a_study(installed: Run, tmp_path: Path) -> None:
    """One arm, twelve blocks, a distribution, and how to add a comparison."""
    done = installed("observe", "--", "sh", "-c", "echo '{x}'; sleep 0.01")
    said = installed("decide").stdout
    (alone, *_) = verdicts(installed)["arms_alone"]

    assert "median" in done.stdout
    assert "--arm 'before=sh -c " in said
    assert (alone["trials"], alone["failed"]) == (12, 0)
    assert 0.01 < alone["median"] < 0.2
    assert (tmp_path / ".bystander" / ".gitignore").read_text(encoding="utf-8") == "*\n"


def test_two_commands_are_compared_without_a_study(run: Run) -> None:
    """A command that sleeps longer is slower, which is clear at the first look; the first arm is the reference."""
    run("observe", "--arm", "before=sleep 0.01", "--arm", "after=sleep 0.2", "--blocks", "8", "--seed", "3")
    document = verdicts(run)
    row = primary(document)["command"]

    assert (document["reference"], document["seed"], row["verdict"]) == ("before", 3, "slower")
    assert (row["blocks"], row["look"], row["stopped"]) == (6, 1, "changed")
    assert [look["blocks"] for look in document["stopping"]["looks"]] == [6, 7, 8]
    assert row["ratio"] > 2


def test_a_study_is_observed_as_planned(installed: Run, study: Path) -> None:
    """Every trial of the plan is there once, in the order that the seed gives; answers are compared."""
    done = installed("observe")
    readings = installed("records", "export").stdout.splitlines()
    rows = [line.split(",") for line in readings[1:] if ",elapsed," in line]
    document = verdicts(installed)

    assert "another answer" in done.stdout
    assert len({tuple(row[:3]) for row in rows}) == len(rows) == 2 * 2 * 7
    assert {row[3] for row in rows} == {"0", "1"}
    assert len({row[3] for row in rows if row[1] == "before" and row[0] == "say"}) == 2
    assert any(note["code"] == "answer-differs" for note in primary(document)["say"]["notes"])
    assert document["complete"]
    assert document["seed"] == 11


def test_the_same_seed_gives_the_same_order(run: Run, study: Path) -> None:
    """Two observations of one study run their trials in the same order."""
    orders = []
    for _ in range(2):
        run("observe", "--quiet", "--blocks", "3")
        rows = run("records", "export").stdout.splitlines()[1:]
        orders.append([row.split(",")[:4] for row in rows if ",elapsed," in row])

    assert orders[0] == orders[1]


def test_check_tells_what_would_happen(run: Run, study: Path) -> None:
    """Arms, programs, answers, machine and time; nothing is recorded."""
    said = run("check").stdout
    document = json.loads(run("check", "--json").stdout)

    assert "DIFFERS" in said
    assert "before: ebb" in said
    assert "after: flood" in said
    assert "Machine:" in said
    assert "28 trials" in said
    assert document["format"] == "bystander.check"
    assert len(document["trials"]) == 4
    assert "no archive" in run("records", "list", code=2).stderr


def test_check_shows_how_a_workload_fails(run: Run, study: Path) -> None:
    """Exit code 1 and the last lines of the trial; a program that is not there is the study's fault."""
    text = study.read_text(encoding="utf-8")
    study.write_text(text.replace("sleep 0.01", "sh -c 'echo dredger broke >&2; exit 5'"), encoding="utf-8")
    said = run("check", code=1).stdout
    study.write_text(text.replace("sleep 0.01", "no-such-program"), encoding="utf-8")
    missing = run("check", code=2).stderr

    assert "dredger broke" in said
    assert "exit 5" in said
    assert 'no program "no-such-program"' in missing


def test_failing_trials_are_results(run: Run, study: Path) -> None:
    """The observation ends with 0; the row is failed; the gate finds it."""
    text = study.read_text(encoding="utf-8").replace(
        "sleep 0.01", "sh -c 'test {word} = ebb || { echo the tide is out >&2; exit 1; }'"
    )
    study.write_text(text, encoding="utf-8")
    run("observe", "--quiet")
    document = verdicts(run)
    row = primary(document)["wait"]
    (failure,) = document["failures"]

    assert (row["verdict"], row["candidate"]["failed"], row["candidate"]["median"]) == ("failed", 7, None)
    assert (failure["workload"], failure["arm"], failure["failed"]) == ("wait", "after", 7)
    assert failure["ways"] == [{"way": "exit code 1", "trials": 7}]
    assert failure["said"] == "the tide is out"
    said = run("decide").stdout
    assert "wait, arm after: 7 of 7 trials failed (exit code 1):\n    the tide is out" in said
    for name in ("f.html", "f.md"):
        run("report", "--to", name)
        assert "the tide is out" in (study.parent / name).read_text(encoding="utf-8")
    assert "found wait (failed)" in run("decide", "--gate", "slower,failed", code=3).stderr
    assert "nothing found" in run("decide", "--gate", "faster").stderr


def test_a_hanging_trial_is_cut_and_counts_as_failed(run: Run, study: Path) -> None:
    """With a limit of 0.2 s the whole observation takes seconds, not minutes."""
    text = study.read_text(encoding="utf-8")
    text = text.replace('"sleep 0.01"', '"sh -c \'test {word} = ebb || sleep 60\'"\nlimit = "200 ms"')
    study.write_text(text, encoding="utf-8")
    begun = time.monotonic()
    run("observe", "--quiet")

    assert time.monotonic() - begun < 60
    assert primary(verdicts(run))["wait"]["candidate"]["failed"] == 7
    assert ",cut," in run("records", "export").stdout


def test_an_interrupt_ends_tidily(study: Path, run: Run, tmp_path: Path, running: Running) -> None:
    """Ctrl-C keeps every trial that ended, says that the record is unfinished, and ends with 130."""
    study.write_text(study.read_text(encoding="utf-8").replace("blocks = 7", "blocks = 2000"), encoding="utf-8")
    process = running()
    time.sleep(2.0)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=30)

    assert process.returncode == 130, err
    assert "unfinished" in err
    assert "not finished" in out
    document = verdicts(run)
    assert not document["complete"]
    assert any(note["code"] == "unfinished" for note in document["notes"])
    assert "unfinished" in run("records", "list").stdout
    assert "unfinished" in run("records", "show").stdout
    run("report", "--to", "r.md")
    assert "not finished" in (tmp_path / "r.md").read_text(encoding="utf-8")
    assert primary(document)["say"]["blocks"] >= 1


def test_two_observations_do_not_run_at_once(study: Path, run: Run, running: Running) -> None:
    """The second is told who runs, and ends with 1."""
    study.write_text(study.read_text(encoding="utf-8").replace("blocks = 7", "blocks = 2000"), encoding="utf-8")
    first = running()
    said = run("observe", code=1).stderr
    first.send_signal(signal.SIGTERM)
    first.communicate(timeout=30)

    assert "another observation runs on this machine" in said
    assert "two commands" in said
    assert first.returncode == 130


def test_a_second_observation_can_wait(study: Path, run: Run, running: Running) -> None:
    """With --wait it is told who runs, and starts when that one has ended."""
    study.write_text(study.read_text(encoding="utf-8").replace("blocks = 7", "blocks = 60"), encoding="utf-8")
    first = running()
    said = run("observe", "--wait", "--blocks", "2").stderr
    first.communicate(timeout=60)

    assert "waiting for its end" in said
    assert first.returncode == 0


def test_workloads_are_chosen_by_pattern(run: Run, tmp_path: Path) -> None:
    """Names, names without inputs, and patterns; a slip is answered with the nearest."""
    run("demo", "office", "--recorded")
    office = tmp_path / "office"
    for words, names in (
        (("year*",), {"year:port=north", "year:port=south"}),
        (("year",), {"year:port=north", "year:port=south"}),
        (("year:port=south", "s?art"), {"year:port=south", "start"}),
    ):
        options = [part for word in words for part in ("--only", word)]
        assert set(primary(verdicts(run, *options, cwd=office))) == names
    assert 'did you mean "start"' in run("decide", "--only", "strat", code=2, cwd=office).stderr
    trials = json.loads(run("check", "--only", "s*", "--placebo-blocks", "0", "--json", cwd=office).stdout)["trials"]
    assert {trial["workload"] for trial in trials} == {"start"}
    run("observe", "--only", "start", "--blocks", "2", "--quiet", cwd=office)
    assert set(primary(verdicts(run, cwd=office))) == {"start"}


def test_the_archive_is_cared_for(run: Run, study: Path, tmp_path: Path) -> None:
    """Notes are repeated, removal asks first, room is given back, damage is mended into a new file."""
    for _ in range(2):
        run("observe", "--quiet", "--blocks", "2")
    run("records", "note", "two-commands-1", "the crane was running")
    assert "the crane was running" in run("decide", "two-commands-1").stdout
    run("records", "remove", "two-commands-1", code=1)  # it asks, and nobody answers
    assert "two-commands-1" in run("records", "list").stdout
    run("records", "remove", "two-commands-1", "--yes")
    assert "two-commands-1" not in run("records", "list").stdout
    assert "no record" in run("records", "remove", "two-commands-1", "--yes", code=2).stderr
    assert json.loads(run("records", "size", "--json").stdout)["readings_bytes"]["two-commands-2"] > 0
    assert "now" in run("records", "compact").stdout
    assert "1 record " in run("records", "mend", "--to", "mended.sqlite").stdout
    assert set(primary(verdicts(run, "--archive", "mended.sqlite"))) == {"say", "wait"}
    assert "there already" in run("records", "mend", "--to", "mended.sqlite", code=1).stderr


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_full_disk_loses_no_trial_that_ended(run: Run, tmp_path: Path) -> None:
    """On a file system too small for the record: one sentence, the archive opens, the trials so far are there."""
    small = tmp_path / "small"
    small.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=440k", "none", str(small)], check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        (small / "bystander.toml").write_text(
            'blocks = 400\nstopping = "fixed"\n[arms.a]\n[arms.b]\nsettings.n = 2\n[workloads.w]\ncommand = "true"\n',
            encoding="utf-8",
        )
        said = run("observe", "--quiet", code=1, cwd=small).stderr
        shown = json.loads(run("records", "show", "--json", cwd=small).stdout)
        with suppress(OSError), (small / "full").open("wb", buffering=0) as full:
            while full.write(b"x" * 512):  # until it is full for everybody
                pass
        for command in READING:
            run(*command.split(), cwd=small)
        refused = [run(*one.replace(" R ", f" {shown['record']} ").split(), code=1, cwd=small).stderr
                   for one in (*WRITING, "settle w accepted --because x --up-to 5%", "new --force",
                               "records export --to x.json", "records mend --to m.sqlite")]  # fmt: skip
        assert not (small / "m.sqlite").exists()
    finally:
        subprocess.run(["umount", str(small)], check=True)

    assert ["the disk of" in one and "is full" in one and "mend" not in one.partition("m.sqlite")[0] for one in refused
            ] == [True] * len(refused)  # fmt: skip
    assert "free, and trials need 128 KiB; make room, then bystander observe --resume" in said
    assert shown["trials"] > 2
    assert not shown["complete"]


READING = (
    "decide",
    "records list",
    "records show",
    "records size",
    "report --to ../r.md",
    "records export --to ../r.csv",
)
WRITING = ("observe --quiet", "records note R x", "records remove R --yes", "records compact")


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_in_a_read_only_folder_everything_is_read_and_nothing_written(run: Run, study: Path, tmp_path: Path) -> None:
    """Records can be decided and shown there; what would write says in one sentence why it cannot."""
    run("observe", "--quiet")
    locked = tmp_path / "locked"
    locked.mkdir()
    source = tmp_path / ".bystander"
    shutil.copytree(source, locked / ".bystander")
    shutil.copy(study, locked)
    if subprocess.run(["mount", "--bind", str(locked), str(locked)], check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        subprocess.run(["mount", "-o", "remount,bind,ro", str(locked)], check=True)
        for words in READING:
            run(*words.split(), cwd=locked)
        for words in WRITING:
            said = run(*words.replace("R", "two-commands-1").split(), code=1, cwd=locked).stderr
            assert "read-only" in said.lower()
            assert len(said.strip().splitlines()) == 1
    finally:
        subprocess.run(["umount", str(locked)], check=True)

    assert (tmp_path / "r.md").exists()


def test_a_damaged_archive_is_one_sentence_whatever_is_asked(run: Run, study: Path, tmp_path: Path) -> None:
    """Noise in its middle, or its end cut off: exit 1, how to save what is whole, and no traceback."""
    run("observe", "--quiet")
    run("records", "compact")
    whole = (tmp_path / ".bystander" / "archive.sqlite").read_bytes()
    for name, data in (("noise", whole[:8192] + os.urandom(40000) + whole[48192:]), ("cut", whole[:30000])):
        (tmp_path / name).write_bytes(data)
        for words in (*READING, "records note two-commands-1 x", "observe --quiet"):
            said = run(*words.replace("../", "").split(), "--archive", name, code=1).stderr
            mending = f"bystander records mend --to mended.sqlite --archive {name}"
            assert f"{mending} saves what is whole in it" in said
            assert len(said.strip().splitlines()) <= 3  # observe names its arms first


def test_records_travel_between_archives(run: Run, study: Path, tmp_path: Path) -> None:
    """Exported as CSV or JSON and imported elsewhere, a record is decided alike."""
    run("observe", "--quiet")
    before = primary(verdicts(run))
    run("records", "export", "--to", "r.csv")
    run("records", "export", "--to", "r.json")
    other = tmp_path / "other.sqlite"
    for file in ("r.csv", "r.json"):
        run("records", "import", file, "--archive", str(other))
        after = primary(verdicts(run, "--archive", str(other)))
        for name, row in after.items():
            assert (row["p"], row["ratio"]) == (before[name]["p"], before[name]["ratio"])
    names = [head["record"] for head in json.loads(run("records", "list", "--json", "--archive", str(other)).stdout)]

    assert names == ["r-1", "two-commands-1"]
    assert "already" in run("records", "import", "r.json", "--archive", str(other), code=1).stderr
    assert "28" in run("records", "show", "r-1", BYSTANDER_ARCHIVE=str(other)).stdout
    assert json.loads(run("records", "show", "--json").stdout)["trials"] == 28


def test_timings_of_any_source_are_imported(run: Run, tmp_path: Path) -> None:
    """A CSV of another program's timings is decided like any record; an unknown reference is asked for."""
    lines = ["workload,arm,block,order,measure,value,unit,start"]
    for block in range(12):
        lines += [
            f"w,one,{block},{block % 2},elapsed,{100 + block},ms,{60 * block + block % 2}",
            f"w,two,{block},{1 - block % 2},elapsed,{150 + block},ms,{60 * block + 1 - block % 2}",
        ]
    (tmp_path / "t.csv").write_text("\n".join(lines), encoding="utf-8")

    assert "--reference" in run("records", "import", "t.csv", code=2).stderr
    run("records", "import", "t.csv", "--reference", "one", "--name", "tugs", "--margin", "5 %")
    document = verdicts(run)
    assert (document["study"], document["margin"], document["reference"]) == ("tugs", 0.05, "one")
    assert primary(document)["w"]["verdict"] == "slower"
    assert run("decide", "--gate", "slower", code=3)


def test_deciding_again_is_exploration(run: Run) -> None:
    """Other margins and measures are allowed, marked, and do not touch the record."""
    run("demo", "office", "--recorded")
    document = json.loads(run("decide", "--margin", "95 %", "--measure", "cpu", "--json", "--archive",
                              "office/.bystander/archive.sqlite").stdout)  # fmt: skip

    assert document["exploration"]
    assert document["measure"] == "cpu"
    assert primary(document)["gauge"]["verdict"] == "same"
    said = run("decide", "--only", "gauge", "--all-measures", "--archive", "office/.bystander/archive.sqlite").stdout
    assert "berths" not in said


@pytest.mark.parametrize("inside_git", [True, False])
def test_a_new_study_is_right_as_it_stands(run: Run, git: object, tmp_path: Path, inside_git: bool) -> None:
    """In a repository and outside, what `new` writes passes `check` unedited; it never writes over a study."""
    (tmp_path / "tugs").mkdir()
    (tmp_path / "tugs" / "__main__.py").write_text(
        "import argparse\nargparse.ArgumentParser().parse_args()\n", encoding="utf-8"
    )
    if inside_git:
        for words in (("init", "-q"), ("add", "-A"), ("commit", "-q", "-m", "x")):
            git(*words)  # type: ignore[operator]
    run("new")
    text = (tmp_path / "bystander.toml").read_text(encoding="utf-8")
    said = run("check", "--placebo-blocks", "0").stdout

    assert ("revision" in tomllib.loads(text)["arms"]["before"]) == inside_git
    assert "python3 -m tugs --help" in text
    assert "the same" in said
    assert "--force" in run("new", code=2).stderr
    run("new", "--force")


def test_a_new_study_in_an_empty_folder_is_right_too(run: Run) -> None:
    """Nothing to run is found, so something that runs anywhere stands in its place."""
    run("new")
    run("check", "--placebo-blocks", "0")


BAD = [
    (("observe",), "there is no study bystander.toml"),
    (("check", "--study", "none.toml"), "there is no study none.toml"),
    (("decide",), "there is no archive"),
    (("decide", "--archive", "none.sqlite"), "there is no archive none.sqlite"),
    (("observe", "--arm", "before"), "is no arm"),
    (("observe", "--arm", "a=true", "--arm", "a=true"), "stands twice"),
    (("observe", "--arm", "a=true", "--", "true"), "both given"),
    (("observe", "--arm", 'a=say "x'), "never closed"),
    (("observe", "--study", "x", "--", "true"), "both given"),
    (("observe", "--only", "x", "--", "true"), "does not apply"),
    (("observe", "--", "no-such-program"), "there is no program"),
    (("report", "--to", "x.doc"), ".html, .md, .json, .csv, .xml, .openmetrics, .svg, .png or .pdf"),
    (("records", "import", "none.csv"), "cannot be read"),
    (("decide", "--margin", "2 mm", "--archive", "x"), "is no share"),
    (("decide", "--gate", "slow", "--archive", "x"), "nothing to look for"),
    (("observe", "--blocks", "100001", "--", "true"), "is no whole number from 1 to 100000"),
    (("observe", "--seed", str(2**63), "--", "true"), "is no whole number from 0 to"),
]


@pytest.mark.parametrize(("words", "clause"), BAD, ids=[" ".join(words) for words, _ in BAD])
def test_wrong_usage_is_one_clear_sentence(run: Run, words: tuple[str, ...], clause: str) -> None:
    """Exit code 2 (1 where the archive is missing), one line on standard error, nothing on standard output."""
    done = run(*words, code=1 if words[-1] == "none.sqlite" else 2)

    assert clause in done.stderr
    assert done.stdout == ""
    assert len([line for line in done.stderr.splitlines() if line.startswith("bystander: ")]) == 1


def test_unknown_records_arms_and_workloads_are_named(run: Run) -> None:
    """Exit code 2, with what there is."""
    run("demo", "office", "--recorded")
    archive = ("--archive", "office/.bystander/archive.sqlite")

    assert 'did you mean "harbour-office-1"' in run("decide", "harbor-office-1", *archive, code=2).stderr
    for words in (("--arm", "x"), ("--only", "x"), ("--measure", "x")):
        assert "has no" in run("decide", *words, *archive, code=2).stderr
    empty = Path(bystander.__file__).parent
    assert "no study" in run("check", code=2, cwd=empty).stderr


def test_damaged_files_end_with_2(run: Run, tmp_path: Path) -> None:
    """Empty and binary studies and timings are told by name."""
    for name, data in (
        ("a.csv", b""),
        ("b.csv", bytes(range(256))),
        ("c.json", b"{"),
        ("d.csv", b"a,b\n1,2\n"),
    ):
        (tmp_path / name).write_bytes(data)
        assert name in run("records", "import", name, code=2).stderr
    for data in (b"", bytes(range(256)), b"[arms", b"margin = 5"):
        (tmp_path / "bystander.toml").write_bytes(data)
        assert run("check", code=2).stderr.startswith("bystander: bystander.toml: ")


def test_output_is_readable_without_colour_unicode_or_width(run: Run) -> None:
    """In a plain ASCII pipe of 80 columns nothing is cut off or escaped; --help names an example."""
    done = run("demo", "office", "--recorded", PYTHONIOENCODING="ascii", COLUMNS="80")

    assert "\x1b" not in done.stdout
    assert "^ slower" in done.stdout
    assert all(ord(c) < 128 for c in done.stdout)
    assert max(map(len, done.stdout.splitlines())) <= 80
    for words in ((), ("decide",), ("records", "import")):
        assert "xample" in run(*words, "--help").stdout or not words


def test_hostile_names_are_escaped(run: Run, tmp_path: Path) -> None:
    """Markup and control characters in imported names reach neither page, text nor terminal."""
    evil = "<script>alert(1)</script>|*_`[x](y)\x1b[31m"
    lines = ["workload,arm,block,order,measure,value,unit"]
    for block in range(8):
        lines += [f'"{evil}",old,{block},0,elapsed,1,s', f'"{evil}",new,{block},1,elapsed,2,s']
    (tmp_path / "evil.csv").write_text("\n".join(lines), encoding="utf-8")
    run("records", "import", "evil.csv")
    for name in ("r.html", "r.md"):
        run("report", "--to", name)
    page, text = ((tmp_path / n).read_text(encoding="utf-8") for n in ("r.html", "r.md"))

    assert page.count("<script") == 1
    assert "<script" not in text.replace("\\<", "")
    assert "\x1b" not in page + text + run("decide").stdout
    assert "[x](y)" not in text
    assert "://" not in page.replace("http://www.w3.org/2000/svg", "")


def test_a_closed_pipe_is_no_traceback(run: Run, tmp_path: Path) -> None:
    """Piping into a program that stops reading ends quietly."""
    run("demo", "office", "--recorded")
    done = subprocess.run(
        f"'{PROGRAM}' records export | head -1", shell=True, cwd=tmp_path / "office", capture_output=True, text=True,
        check=False, env=dict(os.environ),
    )  # fmt: skip

    assert done.stdout.startswith("workload,")
    assert "Traceback" not in done.stderr


def test_the_version_is_the_packages(installed: Run) -> None:
    """`--version` prints it; without a command the help is shown."""
    assert installed("--version").stdout.strip() == f"bystander {bystander.__version__}"
    assert "demo" in installed(code=2).stdout + installed(code=2).stderr


def test_steps_around_trials_are_run_and_not_timed(run: Run, tmp_path: Path) -> None:
    """Once per arm and around each trial, in the right order; their time and output are not the trial's."""
    log = tmp_path.with_suffix(".steps")
    (tmp_path / "bystander.toml").write_text(
        f'blocks = 2\nseed = 1\n[arms.a]\nsettings.n = "a"\n[arms.b]\nsettings.n = "b"\n[workloads.w]\nshell = true\n'
        f'command = "echo run {{n}} >> {log}; echo answer"\nanswer = "output"\n'
        f'before_all = "echo all {{n}} >> {log}"\nbefore_each = "echo before {{n}} >> {log}; sleep 0.3"\n'
        f'after_each = "echo after {{n}} >> {log}; echo {{n}}"\n',
        encoding="utf-8",
    )
    run("observe", "--quiet")
    said = log.read_text(encoding="utf-8").split("\n")
    document = verdicts(run)

    assert [line for line in said if line.endswith("a")] == ["all a", *["before a", "run a", "after a"] * 3]
    assert primary(document)["w"]["reference"]["median"] < 0.3
    assert not any(note["code"] == "answer-differs" for note in primary(document)["w"]["notes"])


@pytest.mark.parametrize(
    ("step", "way"), [("before_all", "not started"), ("before_each", "not started"), ("after_each", "no valid reading")]
)
def test_a_step_that_fails_is_a_failure_of_its_arm(run: Run, tmp_path: Path, step: str, way: str) -> None:
    """The other arm goes on; the failure names the step and what it said."""
    (tmp_path / "bystander.toml").write_text(
        "blocks = 3\n[arms.a]\nsettings.n = 0\n[arms.b]\nsettings.n = 4\n"
        '[workloads.w]\ncommand = "true"\nshell = true\n'
        f'{step} = "echo the sluice is stuck >&2; exit {{n}}"\n',
        encoding="utf-8",
    )
    run("observe", "--quiet")
    document = verdicts(run)
    (failure,) = document["failures"]

    assert primary(document)["w"]["verdict"] == "failed"
    assert (failure["arm"], failure["failed"], failure["ways"]) == ("b", 3, [{"way": way, "trials": 3}])
    assert failure["said"] == f"the step {step} failed (exit 4)\nthe sluice is stuck"
    assert "the sluice is stuck" in run("check", code=1).stdout
