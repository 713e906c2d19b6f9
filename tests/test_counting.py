"""Exact counts of calls, by hooks that come into a program with its environment."""

from __future__ import annotations

import json
import os
import subprocess
from collections import Counter
from pathlib import Path

import pytest
from interpreters import COUNTED, interpreter

from bystander.design import BUILT_IN, PYTHON, Counts
from bystander.field import COUNTING, ReadyCommand, hooked, read_counts

PROGRAM = """
import math, os, threading

def given():
    for k in range(5):
        yield k

def factorial(n):
    return n * factorial(n - 1) if n else 1

def ebb(n):
    return flood(n - 1) if n else 0

def flood(n):
    return ebb(n - 1) if n else 0

def work():
    for _ in range(10):
        len("tide")
        "-".join(["a", "b"])

class Ship:
    def draught(self):
        return max(1, 2)

if __name__ == "__main__":
    for _ in range(4):
        list(given())
    factorial(6)
    factorial(3)
    ebb(7)
    thread = threading.Thread(target=work)
    thread.start()
    thread.join()
    for _ in range(3):
        Ship().draught()
    sorted([3, 1, 2], key=lambda one: -one)
    for k in range(11):
        math.sin(k)
    if not os.fork():
        work()
        os._exit(0)
    os.wait()
"""


def counted(words: list[str], folder: Path, **variables: str) -> tuple[Counts, str]:
    """Run a command with hooks; return its counts, and what it printed."""
    into = folder / "hooks"
    into.mkdir()
    command = ReadyCommand(words[0], tuple(words), str(folder), {"PATH": os.environ["PATH"], **variables}, 60)
    done = subprocess.run(
        words, cwd=folder, env=dict(hooked(command, (COUNTING,), into).environment), capture_output=True, text=True,
        check=True,
    )  # fmt: skip
    assert done.stderr == ""
    return read_counts(into), done.stdout


def calls(counts: Counts) -> dict[str, tuple[int, int, int]]:
    """Return calls, inner ones and resumptions by the last part of each place's name."""
    found: Counter[tuple[str, int]] = Counter()
    for edge in counts.edges:
        name = counts.places[edge.callee].name
        for part, number in enumerate((edge.calls, edge.inner, edge.resumed)):
            found[name, part] += number
    return {name: (found[name, 0], found[name, 1], found[name, 2]) for name, _ in found}


@pytest.mark.parametrize("version", COUNTED)
def test_counts_are_exact_on_every_version(version: str, tmp_path: Path) -> None:
    """Generators and their resumptions, recursion and calls from outside, threads, forked children, built-ins."""
    python = interpreter(version) or pytest.skip(f"there is no Python {version} here")
    (tmp_path / "program.py").write_text(PROGRAM, encoding="utf-8")
    counts, _ = counted([python, "-W", "ignore", "program.py"], tmp_path)
    found = calls(counts)
    method = "Ship.draught" if "Ship.draught" in found else "draught"  # before 3.11 a code object has no longer name

    assert found["given"] == (4, 0, 20)
    assert found["factorial"] == (11, 9, 0)
    assert found["ebb"] == (4, 3, 0)
    assert found["flood"] == (4, 3, 0)
    assert found["work"] == (2, 0, 0)
    assert found[method] == (3, 0, 0)
    assert found["<lambda>"][0] >= 3
    assert found["math.sin"] == (11, 0, 0)
    assert (counts.processes, counts.problems) == (2, ())
    by_line = {
        edge.line: edge.calls
        for edge in counts.edges
        if edge.caller >= 0
        and counts.places[edge.caller].name == "work"
        and counts.places[edge.callee].kind == BUILT_IN
    }
    assert by_line == {19: 20, 20: 20}
    places = {place.name: place for place in counts.places if place.kind == PYTHON}
    assert (places["factorial"].line, Path(places["factorial"].file).name) == (8, "program.py")


def test_hooks_come_into_scripts_modules_commands_and_children(tmp_path: Path) -> None:
    """And the program sees what it would see without them; its own module of that name does its work."""
    python = interpreter("3.12") or pytest.skip("there is no Python 3.12 here")
    (tmp_path / "tool.py").write_text("def job(): pass\njob()\njob()\n", encoding="utf-8")
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "sitecustomize.py").write_text("import sys\nsys.ours = 'kept'\n", encoding="utf-8")
    program = (
        "import json, subprocess, sys\n"
        "subprocess.run([sys.executable, '-m', 'tool'], check=True)\n"
        "subprocess.run([sys.executable, '-I', '-c', 'pass'], check=True)\n"
        "print(json.dumps([sys.path, sys.ours, sys.modules['sitecustomize'].__file__, sys.argv, __name__]))\n"
    )
    (tmp_path / "program.py").write_text(program, encoding="utf-8")
    site = str(tmp_path / "site")
    counts, printed = counted([python, "program.py", "north"], tmp_path, PYTHONPATH=site)
    plain = subprocess.run(
        [python, "program.py", "north"], cwd=tmp_path, env={"PATH": os.environ["PATH"], "PYTHONPATH": site},
        capture_output=True, text=True, check=True,
    )  # fmt: skip

    assert json.loads(printed) == json.loads(plain.stdout)
    assert calls(counts)["job"] == (2, 0, 0)
    assert counts.processes == 2


@pytest.mark.parametrize(
    ("program", "problem"),
    [
        ("import sys\nsys.setprofile(None)\n", "the program took the hook that counts away"),
        ("import os, signal\nos.kill(os.getpid(), signal.SIGKILL) if os.fork() == 0 else os.wait()\n",
         "1 process ended without telling what was called"),
    ],
)  # fmt: skip
def test_what_was_not_counted_is_told(program: str, problem: str, tmp_path: Path) -> None:
    """A hook that the program took away, and a process that was killed."""
    python = interpreter("3.12") or pytest.skip("there is no Python 3.12 here")
    (tmp_path / "program.py").write_text(program, encoding="utf-8")
    counts, _ = counted([python, "program.py"], tmp_path)

    assert counts.problems == (problem,)


def test_what_a_program_leaves_is_not_believed(tmp_path: Path) -> None:
    """Files that are damaged, lie, or hold what stands for nothing are processes that told nothing."""
    good = {"version": 1, "problems": [], "places": [["python", "f", "f\udc80.py", 1]], "edges": [[-1, 0, 0, 3, 0, 0]]}
    wrong = [
        "", "[]", "{", json.dumps({**good, "version": 2}), json.dumps({**good, "edges": [[5, 0, 0, 1, 0, 0]]}),
        json.dumps({**good, "edges": [[0, 0, 0, 1]]}), json.dumps({**good, "places": [["quay", "f", "f.py", 1]]}),
        json.dumps({**good, "edges": [[0, 0, "a", 1, 0, 0]]}),
        json.dumps({**good, "edges": [[-1, 0, 0, 5, 0, 0], [-1, 0, 0, 10**400, 0, 0]]}),
        json.dumps({**good, "edges": [[-1, 0, 0, float("inf"), 0, 0]]}), "[" * 100_000,
    ]  # fmt: skip
    for k, text in enumerate([json.dumps(good), *wrong]):
        (tmp_path / f"{k}.begun").touch()
        (tmp_path / f"{k}.json").write_text(text, encoding="utf-8")
    for name, make in (("pipe", os.mkfifo), ("folder", os.mkdir), ("link", lambda path: path.symlink_to("/dev/zero"))):
        (tmp_path / f"{name}.begun").touch()
        make(tmp_path / f"{name}.json")
    os.mkfifo(tmp_path / "1.failed")
    (tmp_path / "7.failed").write_text("ImportError: no quay", encoding="utf-8")
    counts = read_counts(tmp_path)

    assert calls(counts) == {"f": (3, 0, 0)}
    assert counts.places[0].file == "f?.py"
    assert counts.processes == 1
    assert counts.problems == ("14 processes ended without telling what was called", "ImportError: no quay")
