"""What the program says of records that were observed long ago stays the same: to the byte, or but for new keys.

`data/archives/schema-5.sqlite` holds three of them: the harbour office with phases, samples, a floor and a placebo;
three arms and a placebo, resumed on a second machine, with drawn conditions, failures and other answers; one command
that was interrupted. The fourth is the recorded demo. `python tests/test_unchanged.py` keeps what is said anew, which
must be meant.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Run

DATA = Path(__file__).parent / "data"
KEPT = DATA / "unchanged"
RECORDED = KEPT / "recorded-demo.json"  # the recorded demo as it was then
ARCHIVE = DATA / "archives" / "schema-5.sqlite"
DEMO = "harbour-office-2"
RECORDS = ("harbour-office-1", "signals-three-ways-1", "sleep-now-1", DEMO)


def asked() -> Iterator[tuple[str, tuple[str, ...], str]]:
    """Yield the name of each kept text, the command that gives it, and the file that it writes, "" for its output."""
    for name in RECORDS:
        yield f"{name}.decide.txt", ("decide", name), ""
        yield f"{name}.all.txt", ("decide", name, "--all-measures", "--all-rows"), ""
        yield f"{name}.verdicts.json", ("decide", name, "--json"), ""
        yield f"{name}.show.txt", ("records", "show", name), ""
        yield f"{name}.levels.json", ("records", "levels", name, "--json"), ""
        yield f"{name}.review.md", ("report", name, "--to", "review.md"), "review.md"
        yield f"{name}.review.html", ("report", name, "--to", "review.html"), "review.html"
        if name != DEMO:  # its own file is kept as it is
            yield f"{name}.readings.csv", ("records", "export", name, "--to", "readings.csv"), "readings.csv"
            yield f"{name}.record.json", ("records", "export", name, "--to", "record.json"), "record.json"
    yield "trial.svg", ("records", "show", RECORDS[0], "--trial", "chart/3", "--to", "trial.svg"), "trial.svg"
    yield "trial.html", ("records", "show", RECORDS[0], "--trial", "level/2", "--to", "trial.html"), "trial.html"
    yield "trial.json", ("records", "show", RECORDS[0], "--trial", "chart/3/after", "--to", "spans.json"), "spans.json"
    yield "list.txt", ("records", "list"), ""
    yield "list.json", ("records", "list", "--json"), ""


CASES = {name: (words, file) for name, words, file in asked()}


def lost(kept: Any, now: Any, path: str = "") -> list[str]:
    """Return where a document no longer says what it said; keys may be added."""
    if isinstance(kept, dict) and isinstance(now, dict):
        gone = [f"{path}.{key}" for key in kept if key not in now]
        return gone + [one for key in kept if key in now for one in lost(kept[key], now[key], f"{path}.{key}")]
    if isinstance(kept, list) and isinstance(now, list) and len(kept) == len(now):
        return [one for i, (a, b) in enumerate(zip(kept, now, strict=True)) for one in lost(a, b, f"{path}[{i}]")]
    return [] if kept == now and type(kept) is type(now) else [f"{path}: {kept!r} then, {now!r} now"]


def of_version_1(document: dict[str, Any]) -> dict[str, Any]:
    """Return a whole record as version 1 wrote it: phases in `told`, and what a workload runs in keys of its own."""
    told = [
        {"trial": one["trial"], **one["summary"], "phases": one["content"]}
        for one in document["evidence"]
        if one["kind"] == "timeline"
    ]
    workloads = []
    for workload in document["study"]["workloads"]:
        what = dict(workload["what"])
        timed = what if what.pop("kind") == "callable" else None
        command = {} if timed else what
        said = {"command": command.get("template", ""), "shell": command.get("shell", False), "timed": timed}
        workloads.append({**workload, **said})
    return {**document, "told": told, "study": {**document["study"], "workloads": workloads}}


@pytest.fixture
def archive(tmp_path: Path, run: Run) -> Path:
    """The archive of that time with the recorded demo in it, in a folder of its own."""
    path = tmp_path / "archive.sqlite"
    shutil.copy(ARCHIVE, path)
    run("records", "import", str(RECORDED), BYSTANDER_ARCHIVE=str(path))
    return path


def test_what_is_said_of_old_records_stays_the_same(archive: Path, run: Run, tmp_path: Path) -> None:
    """Text and pages to the byte; JSON but for keys that are new, and its version."""
    for name, (words, file) in CASES.items():
        done = run(*words, BYSTANDER_ARCHIVE=str(archive), COLUMNS="80")
        now = (tmp_path / file).read_text(encoding="utf-8") if file else done.stdout
        kept = (KEPT / name).read_text(encoding="utf-8")
        if name.endswith(".json") and name != "trial.json":
            before, after = json.loads(kept), json.loads(now)
            if isinstance(before, dict):
                before.pop("version", None)
            if name.endswith(".record.json"):
                after = of_version_1(after)
            assert lost(before, after) == [], name
        else:
            assert kept == now, name


def keep() -> None:
    """Write down what is said now."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        shutil.copy(ARCHIVE, folder / "archive.sqlite")
        variables = {"BYSTANDER_ARCHIVE": str(folder / "archive.sqlite"), "COLUMNS": "80", "NO_COLOR": "1"}
        environment = {**os.environ, **variables, "PYTHONIOENCODING": "utf-8"}

        def run(*words: str) -> str:
            done = subprocess.run(
                [str(PROGRAM), *words], cwd=folder, env=environment, check=True, capture_output=True, text=True
            )
            return done.stdout

        run("records", "import", str(RECORDED))
        KEPT.mkdir(exist_ok=True)
        for name, (words, file) in CASES.items():
            said = run(*words)
            (KEPT / name).write_text((folder / file).read_text(encoding="utf-8") if file else said, encoding="utf-8")


if __name__ == "__main__":
    sys.exit(keep())
