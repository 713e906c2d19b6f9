"""Readable anywhere: at any width, without colour, in any shell, on a phone."""

from __future__ import annotations

import io
import os
import pty
import random
import re
import select
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from functools import cache
from pathlib import Path

import pytest
from builders import made_record, noisy
from conftest import PROGRAM, Run
from rich.console import Console

from bystander.cli.shown import tables
from bystander.cli.shown.console import STYLES
from bystander.units import numbered, told_apart
from bystander.verdicts import Decision, change_text, decide

WORDS = ("harbour", "north-quay", "tide_table", "berth", "x", "very-long-suite-name", "gauge:port=north", "days=80",
         "arrivals", "notices/v2", "ü", "a b")  # fmt: skip


def family(seed: int) -> list[str]:
    """Return distinct names that share more or less of their beginnings, middles and ends."""
    chance = random.Random(seed)
    size = chance.randint(2, 12)
    begin, middle, end = (
        "".join(chance.choice(WORDS) + chance.choice(":-_/. ") for _ in range(chance.randint(0, 4))) for _ in range(3)
    )
    kinds: list[Callable[[int], str]] = [
        lambda k: f"{begin}{k}{end}", lambda k: f"{begin}{chance.choice(WORDS)}{k}",
        lambda k: f"{k}{begin}{middle}", lambda k: f"{begin}{'abcdefghijklm'[k]}{middle}{'nopqrstuvwxyz'[-k - 1]}{end}",
        lambda k: f"{begin}{'z' * k}{end}.",
    ]  # fmt: skip
    kind = chance.choice(kinds)
    return list(dict.fromkeys(kind(k) for k in range(size)))


@cache
def decision(count: int) -> Decision:
    """Decide so many workloads of all kinds of changes, with one other measure; names are put in later."""
    factors = (1.4, 1.0, 0.25, 1.0, 12.0, 0.97, 1.02, 1.0, 3.0, 0.5, 1.1, 1.0)
    spreads = (0.01, 0.005, 0.01, 0.5, 0.2, 0.02, 0.3, 0.004, 0.1, 0.1, 0.05, 1.5)
    readings = {
        f"w{i}": {"before": noisy(12, 0.1, s, i), "after": noisy(12, 0.1 * f, s, 50 + i)}
        for i, (f, s) in enumerate(list(zip(factors, spreads, strict=True))[:count])
    }
    more = {w: {"before": noisy(12, 2e7, 0.001, 3), "after": noisy(12, 5e7, 0.001, 4)} for w in readings}
    return decide(made_record(readings, more={"peak_memory": more}))


def renamed(found: Decision, names: list[str]) -> Decision:
    from dataclasses import replace

    by_name = {f"w{i}": name for i, name in enumerate(names)}
    return replace(found, rows=tuple(row._replace(workload=by_name[row.workload]) for row in found.rows))


def printed(found: Decision, width: int) -> str:
    console = Console(file=io.StringIO(), width=width, theme=STYLES, no_color=True)
    tables.print_rows(console, found)
    first = console.file.getvalue()  # type: ignore[attr-defined]
    tables.print_secondary(console, found, everything=True)
    return first + "\f" + console.file.getvalue()[len(first) :]  # type: ignore[attr-defined]


@pytest.mark.parametrize("part", range(4))
def test_rows_can_be_told_apart_at_any_width(part: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """Two hundred random families of names and widths from 60: never two alike, no number or verdict is cut."""
    monkeypatch.setattr(tables, "can_draw", lambda: True)
    for seed in range(50 * part, 50 * part + 50):
        names = family(seed)
        width = random.Random(seed).randint(60, 160)
        found = renamed(decision(len(names)), names)
        primary, secondary = printed(found, width).split("\f")
        for text, rows in ((primary, found.primary), (secondary, found.secondary)):
            lines = text.splitlines()
            assert max(map(len, lines)) <= width, (seed, width)
            whole = " ".join(text.split())
            for row in rows:
                assert f"{tables.MARKS[row.verdict]} {row.verdict}" in whole, (seed, width, row.workload)
                assert change_text(row) in whole, (seed, width, row.workload)
            body = "\n".join(line for line in lines if not line.startswith("workload") and line.strip())
            heads = re.sub(r"\n    (?! *[▲▼=○✕])", "", body).splitlines()  # a name of several lines is set in
            shown = [re.split(r"\s{2,}", line)[0] for line in heads if re.match(r"\S", line)]
            assert len(shown) >= len(rows), (seed, width, text)
            assert len(set(shown)) == len(shown), (seed, width, text)


@pytest.mark.parametrize("most", [3, 5, 8, 12, 20, 40])
def test_short_forms_are_never_alike_and_keep_what_differs(most: int) -> None:
    """What all share is cut first; where no short form can tell two apart, they are numbered."""
    for seed in range(200):
        names = family(seed)
        forms = told_apart(names, most)
        if forms is not None:
            assert len(set(forms.values())) == len(names)
            assert max(map(len, forms.values())) <= most
            assert all(forms[name] == name for name in names if len(name) <= most)
        counted = numbered(names, most)
        assert len(set(counted.values())) == len(names)
    names = ["suite-of-the-harbour-north-quay", "suite-of-the-harbour-south-quay"]
    assert told_apart(names, 12) == {names[0]: "sui…north…ay", names[1]: "sui…south…ay"}
    assert told_apart(["year:port=north", "year:port=south"], 10) == {
        "year:port=north": "year…north", "year:port=south": "year…south",
    }  # fmt: skip
    assert told_apart(["a" * 20 + "1" + "b" * 20, "a" * 20 + "2" + "b" * 20], 2) is None
    assert list(numbered(["aaaaaaaa1bbbbbbb", "aaaaaaaa2bbbbbbb"], 2).values()) == ["…1", "…2"]


def on_a_terminal(words: list[str], folder: Path, columns: int = 80, **variables: str) -> str:
    """Run the program on a terminal of its own and return everything that it wrote there."""
    ours, theirs = pty.openpty()
    environment = {**os.environ, "TERM": "xterm-256color", "COLUMNS": str(columns), **variables}
    process = subprocess.Popen(
        [str(PROGRAM), *words], cwd=folder, stdin=theirs, stdout=theirs, stderr=theirs, env=environment
    )
    os.close(theirs)
    said, until = b"", time.monotonic() + 60
    while time.monotonic() < until:
        if select.select([ours], [], [], 0.2)[0]:
            try:
                data = os.read(ours, 1 << 16)
            except OSError:
                break
            if not data:
                break
            said += data
        elif process.poll() is not None:
            break
    os.close(ours)
    assert process.wait(10) == 0, said
    return said.decode("utf-8", "replace")


def test_no_color_means_no_escape_code_at_all(study: Path, tmp_path: Path) -> None:
    """On a terminal, while it observes too; without it there are some, so that this test could fail."""
    quick = ["observe", "--blocks", "2"]
    coloured = on_a_terminal(quick, tmp_path)
    plain = [on_a_terminal(words, tmp_path, NO_COLOR="1") for words in (
        quick, ["decide"], ["check", "--placebo-blocks", "3"], ["records", "levels"],
    )]  # fmt: skip

    assert "\x1b" in coloured
    assert all("\x1b" not in text and len(text) > 50 for text in plain)


COMPLETES = {
    "bash": {"_BYSTANDER_COMPLETE": "complete_bash", "COMP_WORDS": "bystander rec", "COMP_CWORD": "1"},
    "zsh": {"_BYSTANDER_COMPLETE": "complete_zsh", "_TYPER_COMPLETE_ARGS": "bystander rec"},
    "fish": {"_BYSTANDER_COMPLETE": "complete_fish", "_TYPER_COMPLETE_ARGS": "bystander rec",
             "_TYPER_COMPLETE_FISH_ACTION": "get-args"},
}  # fmt: skip


@pytest.mark.parametrize("shell", COMPLETES)
def test_completion_works_in_the_shells(installed: Run, tmp_path: Path, shell: str) -> None:
    """It is shown and installed from within each shell, its script is one that the shell reads, and words are found."""
    path = shutil.which(shell)
    if path is None:
        pytest.skip(f"{shell} is not here")
    bin_folder = str(PROGRAM.parent)
    environment = {**os.environ, "HOME": str(tmp_path), "PATH": f"{bin_folder}:{os.environ['PATH']}"}

    def inside(line: str) -> str:
        done = subprocess.run(
            [path, "-c", line], cwd=tmp_path, env=environment, capture_output=True, text=True, check=True
        )
        return done.stdout

    script = inside("bystander --show-completion; true")
    (tmp_path / "script").write_text(script, encoding="utf-8")
    assert "_BYSTANDER_COMPLETE" in script
    subprocess.run([path, "-n", "script"], cwd=tmp_path, check=True)
    inside("bystander --install-completion; true")
    assert any("_BYSTANDER_COMPLETE" in file.read_text(encoding="utf-8", errors="replace")
               for file in tmp_path.rglob("*") if file.is_file() and file.name != "script")  # fmt: skip
    assert "records" in installed(**COMPLETES[shell]).stdout


def test_plurals_are_right(run: Run, tmp_path: Path) -> None:
    """One of a thing is one thing, in everything that is said of the smallest record there is."""
    (tmp_path / "bystander.toml").write_text(
        'blocks = 1\n[arms.a]\n[arms.b]\nsettings.n = 2\n[workloads.w]\ncommand = "true"\n', encoding="utf-8"
    )
    told = [run(*words).stdout for words in (("check", "--placebo-blocks", "0"), ("observe", "--quiet"), ("decide",),
            ("records", "show"), ("records", "mend", "--to", "m.sqlite"), ("report", "--to", "r.md"))]  # fmt: skip
    told.append((tmp_path / "r.md").read_text(encoding="utf-8"))

    for text in told:
        assert not re.search(
            r"(?<![\d.,])1 (blocks|trials|rows|records|workloads|arms|comparisons|processors|hits)\b", text
        )
        assert not re.search(r"(?<![\d.,])[02-9]\d* (block|trial|row|record|workload|arm|comparison)\b(?!-)", text)


def test_the_python_that_runs_is_the_tested_one() -> None:
    """The script beside this interpreter is what all of this drives."""
    assert Path(sys.executable).parent == PROGRAM.parent
