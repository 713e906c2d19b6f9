"""Pipelines: the recipe of the docs over a made-up history of ten commits, and the shell parts of workflow files."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import yaml
from conftest import PROGRAM

ROOT = Path(__file__).parents[1]
RECIPE = ROOT / "examples" / "pipeline"
DOCS = (ROOT / "docs" / "pipelines.md").read_text(encoding="utf-8")
Git = Callable[..., str]
Sh = Callable[..., "subprocess.CompletedProcess[str]"]
FEW = ("--fixed", "9")


@pytest.fixture
def office(tmp_path: Path, git: Git) -> Path:
    """The recipe in a repository of its own, with a first commit on main."""
    shutil.copytree(RECIPE, tmp_path, dirs_exist_ok=True)
    (tmp_path / ".gitignore").write_text("bystander-out\nsummary.md\n__pycache__\n", encoding="utf-8")
    for words in (("init", "-q", "-b", "main"), ("add", "-A"), ("commit", "-q", "-m", "the office's day")):
        git(*words)
    return tmp_path


@pytest.fixture
def sh(office: Path) -> Sh:
    """Run a command of a shell there, with the program on its path; return how it ended."""

    def run(*words: str, **variables: str) -> subprocess.CompletedProcess[str]:
        environment = {**os.environ, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}", "NO_COLOR": "1", **variables}
        return subprocess.run(
            words, cwd=office, env=environment, capture_output=True, text=True, check=False, timeout=200
        )

    return run


def edited(office: Path, **values: object) -> None:
    """Write other constants into the program."""
    file = office / "office.py"
    lines = file.read_text(encoding="utf-8").splitlines()
    names = [name.strip() for name in lines[4].split(" = ")[0].split(",")]
    before = dict(zip(names, eval(f"({lines[4].split(' = ', 1)[1]})"), strict=True))
    now = {**before, **values}
    lines[4] = f"{', '.join(names)} = {', '.join(map(repr, now.values()))}"
    file.write_text("\n".join(lines) + "\n", encoding="utf-8")


def found(office: Path) -> tuple[list[str], dict[str, str]]:
    """Return the words that the gate found, and how each case of the JUnit file is marked."""
    document = json.loads((office / "bystander-out" / "verdicts.json").read_text(encoding="utf-8"))
    cases = ElementTree.parse(office / "bystander-out" / "junit.xml").iter("testcase")
    marks = {case.get("name") or "": next((one.tag for one in case if one.tag != "system-out"), "") for case in cases}
    return [one["word"] for one in document["gate"]["found"]], marks


@pytest.mark.slow
def test_ten_commits_come_through_the_recipe(office: Path, git: Git, sh: Sh) -> None:
    """Each is held against main, and merged when it passes; files are those of this very run, or none."""

    def pipeline() -> int:
        (office / "bystander-out").mkdir(exist_ok=True)
        (office / "bystander-out" / "junit.xml").write_text("of another run", encoding="utf-8")
        git("add", "-A")
        git("commit", "-q", "--allow-empty", "-m", "next")
        done = sh("sh", "gate.sh", "main", "bystander-out", *FEW, BYSTANDER_SUMMARY="summary.md")
        said.append(done.stdout + done.stderr)
        return done.returncode

    def merged() -> None:
        git("branch", "-f", "main", "HEAD")

    def thrown_away() -> None:
        git("reset", "-q", "--hard", "main")

    said: list[str] = []
    git("checkout", "-q", "-b", "work")
    (office / "README").write_text("the office's day\n", encoding="utf-8")  # 1: nothing that runs
    assert pipeline() == 0
    assert len([line for line in said[-1].splitlines() if "gate" in line]) == 1
    assert found(office)[0] == []
    merged()
    edited(office, PAUSE_S=0.3)  # 2: slower
    assert pipeline() == 3
    assert found(office)[0] == ["slower"]
    assert found(office)[1]["office"] == "failure"
    assert "bystander inspect" in said[-1]
    thrown_away()
    edited(office, PAUSE_S=0.01)  # 3: faster
    assert pipeline() == 0
    merged()
    edited(office, ANSWER="high water 4.1")  # 4: wrong
    assert pipeline() == 3
    assert found(office)[0] == ["other-answer"]
    thrown_away()
    (office / "build.sh").write_text("echo no compiler here; exit 1\n", encoding="utf-8")  # 5: does not build
    assert pipeline() == 1
    assert "no compiler here" in said[-1]
    assert not (office / "bystander-out" / "junit.xml").exists()
    assert "could not be done" in (office / "summary.md").read_text(encoding="utf-8")
    thrown_away()
    edited(office, MEGABYTES=40)  # 6: more memory
    assert pipeline() == 3
    assert "more" in found(office)[0]  # which takes time as well
    assert found(office)[1]["office, peak memory"] == "failure"
    thrown_away()
    edited(office, PAUSE_S=0.25)  # 7: slower once more
    assert pipeline() == 3
    settled = sh(str(PROGRAM), "settle", "office", "accepted", "--because", "the tide waits", "--until", "2999-01-01")
    assert settled.returncode == 0, settled.stderr
    assert pipeline() == 0  # 8: accepted, with the reason, in a commit
    assert "accepted, and passed: office (slower)" in said[-1]
    assert "this commit changes what it is judged by" in said[-1]
    assert found(office)[0] == []
    merged()
    edited(office, MEGABYTES=1, PAUSE_S=0.25)  # 9: nothing, once more
    assert pipeline() == 0
    merged()
    edited(office, PAUSE_S=0.02)  # 10: faster
    assert pipeline() == 0
    assert (office / "summary.md").read_text(encoding="utf-8").count("### harbour office") == 9  # one did not build
    assert sh("git", "status", "--porcelain").stdout == ""


def shell_parts(name: str) -> list[str]:
    """Return what a workflow file runs, but for what installs."""
    document: dict[str, Any] = yaml.safe_load((RECIPE / name).read_text(encoding="utf-8"))
    if "jobs" in document:
        (job,) = document["jobs"].values()
        return [step["run"] for step in job["steps"] if "run" in step and step.get("name") != "install"]
    (job,) = document.values()
    assert all(line.startswith("python3 -m pip install") for line in job["before_script"])
    return ["\n".join(job["script"])]


@pytest.mark.slow
@pytest.mark.parametrize("way", ["hosted.yml", "container.yml", "Makefile", "pre-push"])
def test_the_other_ways_run_the_same(office: Path, git: Git, sh: Sh, way: str) -> None:
    """Shell parts of workflow files, a make target, and a hook before a push."""
    git("update-ref", "refs/remotes/origin/main", "HEAD")
    file = office / "gate.sh"  # a few blocks do here
    file.write_text(file.read_text(encoding="utf-8").replace('--budget "5 min"', "--fixed 7"), encoding="utf-8")
    if way == "Makefile":
        if not shutil.which("make"):
            pytest.skip("make is not here")
        commands = [("make", "speed", "BASE=HEAD")]
    elif way == "pre-push":
        commands = [("sh", "pre-push")]
    else:
        commands = [("sh", "-e", "-c", part) for part in shell_parts(way)]
    assert commands
    for command in commands:
        done = sh(*command, BYSTANDER_OPTIONS="--fixed 7")
        assert done.returncode == 0, done.stdout + done.stderr
        assert "gate slower,more,failed,other-answer: nothing found" in done.stdout
    if way == "pre-push":
        edited(office, ANSWER="low water")
        stopped = sh("sh", "pre-push", BYSTANDER_OPTIONS="--fixed 7")
        assert stopped.returncode == 1
        assert "not pushed" in stopped.stderr


@pytest.mark.parametrize("file", sorted(file.name for file in RECIPE.iterdir() if file.suffix not in (".py",)))
def test_the_docs_show_the_files_that_run(file: str) -> None:
    """To the letter."""
    text = (RECIPE / file).read_text(encoding="utf-8").rstrip()
    assert text in DOCS or file == "build.sh"
