"""What comes next has one place each: kinds of evidence and of workloads, plans of comparisons, formats of reports."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest

from bystander.design import kinds
from bystander.flow.trials.kinds import joined_kind

GROWN = Path(__file__).with_name("growth.py")
DOCS = Path(__file__).parents[1] / "docs"
STUDY = """
name = "the harbour's bell"
blocks = 12
stopping = "fixed"
seed = 3
[arms.ebb]
folder = "."
settings.strokes = 2
[arms.slack]
folder = "."
settings.strokes = 4
[arms.flood]
folder = "."
settings.strokes = 4
[workloads.bell]
ring = "strokes"
"""


def grown(folder: Path, *lines: str, code: int = 0) -> str:
    """Run the grown program with the words of some lines."""
    done = subprocess.run(
        [sys.executable, str(GROWN), *" ".join(lines).split()], cwd=folder, capture_output=True, text=True, check=False,
        env={**os.environ, "NO_COLOR": "1", "COLUMNS": "80"},
    )  # fmt: skip
    assert done.returncode == code, done.stderr
    return done.stdout + done.stderr


def test_the_program_grows_from_outside_by_one_call_each(tmp_path: Path) -> None:
    """A chain of arms rings a bell; its strokes are evidence that travels; links are rows in every output."""
    (tmp_path / "bystander.toml").write_text(STUDY, encoding="utf-8")
    assert "the bell of bell" in grown(tmp_path, "check --placebo-blocks 0 then observe")
    text = grown(tmp_path, "decide then report --to review.lines then report --to review.html")
    document = json.loads(grown(tmp_path, "decide", "--json"))
    rows = {(row["against"], row["arm"]): row["verdict"] for row in document["results"] if row["primary"]}
    grown(
        tmp_path,
        "records export --to record.json then records import record.json --archive other.sqlite",
        "then records export --to again.json --archive other.sqlite",
    )
    sent, again = (json.loads((tmp_path / name).read_text(encoding="utf-8")) for name in ("record.json", "again.json"))
    lines = (tmp_path / "review.lines").read_text(encoding="utf-8").splitlines()

    assert document["compared"] == [
        {"reference": "ebb", "candidate": "slack"},
        {"reference": "slack", "candidate": "flood"},
        {"reference": "ebb", "candidate": "flood"},
    ]
    assert rows["ebb", "slack"] == rows["ebb", "flood"] == "slower"
    assert rows["slack", "flood"] != "slower"
    assert "slack, flood against ebb; flood against slack, by elapsed time" in text
    assert "bell · flood against slack" in text
    assert "ebb and slack do not do the same work: items: strokes 2 and 4." in text
    assert [line.split(":")[0] for line in lines].count("bell · flood against slack") == 1
    assert "bell · flood against slack" in (tmp_path / "review.html").read_text(encoding="utf-8")
    assert len(sent["evidence"]) == 36
    assert {json.dumps(one["content"]) for one in sent["evidence"]} == {"[1, 2]", "[1, 2, 3, 4]"}
    contents = [[json.dumps(one["content"]) for one in document["evidence"]] for document in (sent, again)]
    assert sorted(contents[0]) == sorted(contents[1])
    assert sent["study"]["workloads"][0]["what"] == {"kind": "bell", "ring": "strokes"}


def test_what_is_not_known_here_is_told_or_carried(tmp_path: Path) -> None:
    """Without its kinds a record of the grown program is one clear sentence, and nothing of it is lost."""
    (tmp_path / "bystander.toml").write_text(STUDY.replace("= 12", "= 1"), encoding="utf-8")
    grown(tmp_path, "observe")
    plain = subprocess.run(
        [sys.executable, "-m", "bystander", "decide"], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    with closing(sqlite3.connect(tmp_path / ".bystander" / "archive.sqlite")) as connection:
        kept = connection.execute("SELECT kind, version, summary, bytes FROM evidence ORDER BY id").fetchall()

    assert plain.returncode == 1
    assert "workloads[0].what is of no known kind" in plain.stderr
    assert "Traceback" not in plain.stderr
    assert len(kept) == 3
    assert {row[:2] for row in kept} == {("strokes", 1)}


@pytest.mark.parametrize("name", kinds())
def test_a_kind_of_workload_is_whole(name: str) -> None:
    """It stands in the tables of studies, field and flow, and its page names every key of it."""
    kind = joined_kind(name)
    page = (DOCS / kind.in_study.page).read_text(encoding="utf-8")

    assert kind.in_study.name == name == kind.in_study.type.kind
    assert kind.in_study.key in kind.in_study.keys
    for key in kind.in_study.keys:
        assert f"`{key}`" in page, key
    assert callable(kind.in_field.ready)
    assert callable(kind.in_field.run)
