"""Numbers that a program prints become measures without an edit."""

from __future__ import annotations

import json
import math
from pathlib import Path

import pytest
from conftest import Run

from bystander.design import PrintedNumber, Status, TrialOutcome, printed_number
from bystander.errors import UsageError
from bystander.flow.trials.collected import with_numbers

STUDY = r"""
blocks = 9
stopping = "fixed"
measure = "reading:rate"
[arms.before]
folder = "."
settings.rate = "40"
[arms.after]
folder = "."
settings.rate = "60"
[workloads.sort]
command = "sh sort.sh {rate}"
[workloads.sort.numbers]
rows = 'rows: (\d+)'
rate = { pattern = 'rate: ([\d.]+)', unit = "ships/s", better = "more", of = "sum" }
pause = { pattern = '^pause (\S+)$', unit = "ms" }
"""
PROGRAM = 'echo "rows: 3"; echo "rows: 12"; echo "rate: $1.5 ships"; echo "rate: 1" >&2; echo "pause 250" >&2\n'


def read(text: str, number: PrintedNumber, tmp_path: Path, errors: str = "") -> float:
    outcome = TrialOutcome(Status.OK, 0, 0.0, 0.0, {})
    for name, said in (("output", text), ("errors", errors)):
        (tmp_path / name).write_text(said, encoding="utf-8")
    files = (tmp_path / "output", tmp_path / "errors")
    return with_numbers(outcome, {"rows": number}, files, 10**6).readings["reading:rows"]


@pytest.mark.parametrize(
    ("text", "number", "value"),
    [
        ("rows: 3\nrows: 12", PrintedNumber(r"rows: (\d+)"), 12), ("a 3 b 12", PrintedNumber(r"\d+", of="first"), 3),
        ("3 4 5", PrintedNumber(r"\d", of="sum"), 12),
        ("took 1,234,567.5 us", PrintedNumber(r"took (\S+)", "us"), 1.2345675),
        ("size 3", PrintedNumber(r"size (\d)", "KiB"), 3072), ("-1e-3", PrintedNumber(r"\S+"), -0.001),
        ("first\n7 left", PrintedNumber(r"^(\d+) left$"), 7), ("1,23", PrintedNumber(r"\S+"), math.nan),
        ("none", PrintedNumber(r"\d+"), math.nan), ("1e999", PrintedNumber(r"\S+"), math.nan),
    ],
)  # fmt: skip
def test_a_number_is_read_where_its_pattern_matches(
    tmp_path: Path, text: str, number: PrintedNumber, value: float
) -> None:
    """Its group, or all of the match; of several the last, the first or their sum; in seconds and bytes."""
    assert read(text, number, tmp_path) == pytest.approx(value, nan_ok=True)
    assert read("", number, tmp_path, errors=text) == pytest.approx(value, nan_ok=True)


def test_printed_numbers_are_decided_like_any_measure(tmp_path: Path, run: Run) -> None:
    """From output and errors, with their units and better sides; check shows what was found."""
    (tmp_path / "bystander.toml").write_text(STUDY, encoding="utf-8")
    (tmp_path / "sort.sh").write_text(PROGRAM, encoding="utf-8")
    checked = " ".join(run("check").stdout.split())
    run("observe", "--quiet")
    results = json.loads(run("decide", "--json").stdout)["results"]
    by_measure = {row["measure"]: row for row in results}
    rate, rows, pause = (by_measure[f"reading:{name}"] for name in ("rate", "rows", "pause"))

    assert "sort prints rows 12, rate 41.5 ships/s, pause 250 ms." in checked
    assert (rate["primary"], rate["verdict"], rate["unit"]) == (True, "higher", "ships/s")
    assert rate["ratio"] == pytest.approx(61.5 / 41.5)
    assert rows["reference"]["median"] == 12
    assert pause["reference"]["median"] == pytest.approx(0.25)


def test_a_number_that_is_not_printed_is_told(tmp_path: Path, run: Run) -> None:
    """As no reading, by check and observe; and where the study decides on it, before the first block."""
    (tmp_path / "sort.sh").write_text(PROGRAM.replace("rate", "speed"), encoding="utf-8")
    (tmp_path / "bystander.toml").write_text(STUDY, encoding="utf-8")
    refused = run("observe", code=2).stderr
    (tmp_path / "bystander.toml").write_text(STUDY.replace('measure = "reading:rate"', ""), encoding="utf-8")
    said = run("observe").stderr

    assert 'measure: "reading:rate" was not told by sort under before' in refused
    assert 'sort prints no number "rate" under after: nothing in its output or errors matches rate: ([\\d.]+).' in said


@pytest.mark.parametrize(
    ("numbers", "problem"),
    [
        ("rows = '('", "is no regular expression"), ("rows = '(a)(b)'", "has 2 groups"),
        ("rows = 3", "finds no number"),
        ("rows = { unit = 's' }", "finds no number"),
        ("rows = { pattern = 'x', of = 'mean' }", "none of several matches"),
        ("rows = { pattern = 'x', better = 'most' }", "no side"), ("'a:b' = 'x'", "is no name"),
        ("rows = { pattern = 'x', units = 's' }", "units"),
    ],
)  # fmt: skip
def test_wrong_numbers_are_told_with_their_key(tmp_path: Path, run: Run, numbers: str, problem: str) -> None:
    """The key, the value, and what would be right."""
    (tmp_path / "bystander.toml").write_text(
        f'[arms.now]\nfolder = "."\n[workloads.w]\ncommand = "true"\n[workloads.w.numbers]\n{numbers}\n',
        encoding="utf-8",
    )
    said = run("check", code=2).stderr

    assert "workloads.w.numbers" in said
    assert problem in said


def test_a_number_without_a_study(tmp_path: Path, run: Run) -> None:
    """One command now, or two side by side; the next command repeats it."""
    number = ("--number", r"rows=rows: (\d+)")
    said = run("observe", "--quiet", "--seed", "3", *number, "--", "echo", "rows: 7").stdout
    run("records", "export", "--to", "one.json")
    one = json.loads((tmp_path / "one.json").read_text(encoding="utf-8"))
    two = run("observe", "--quiet", "--fixed", "12", *number, "--arm", "a=echo rows: 7", "--arm", "b=echo rows: 9")
    results = json.loads(run("decide", "--json").stdout)["results"]

    assert ", rows 7" in said
    assert "bystander observe --number 'rows=rows: (\\d+)' --arm" in said
    assert one["study"]["workloads"][0]["numbers"]["rows"]["pattern"] == r"rows: (\d+)"
    assert next(row["verdict"] for row in results if row["measure"] == "reading:rows") == "more"
    assert "rows" in two.stdout
    assert "--number is for a command" in run("observe", *number, code=2).stderr
    assert "stands twice" in run("observe", *number, *number, "--", "true", code=2).stderr


def test_a_text_on_the_command_line_is_a_name_and_a_pattern() -> None:
    """An equals sign parts them; the pattern may hold others."""
    assert printed_number("rows=a=(\\d+)") == ("rows", PrintedNumber("a=(\\d+)"))
    for wrong in ("rows", "=x", "a b=x", "rows=", "rows=(", "rows=(a)(b)"):
        with pytest.raises(UsageError, match="--number"):
            printed_number(wrong)
