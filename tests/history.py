"""Repositories with a history of a program that says how long it took: made up, so that nothing hangs on clocks."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

STUDY = """
name = "walk"
measure = "reading:walk"
seed = 4
blocks = {blocks}
[arms.state]
build = ["sh build.sh"]
[workloads.walk]
command = "sh walk.sh"
answer.of = "file"
answer.file = "answer.txt"
[workloads.walk.numbers.walk]
pattern = "walked (\\\\S+) s"
unit = "s"
"""
# It reads what its steps return and says so: a shell starts five times as fast as Python. Twelve bytes together scatter
# nearly normally about 1530, with a standard deviation of a sixth of that. Steps may be quicker once "Quick" is read.
WALK = """{wait}printf %s '{answer}' > answer.txt
od -An -N12 -tu1 /dev/urandom | awk -f walk.awk - steps.py
"""
COUNTED = """FNR == NR {{ for (i = 1; i <= NF; i++) bytes += $i; next }}
/Quick/ {{ quick = 1 }}
/return/ {{ took[++n] = $2; quickly[n] = $3 == "#" ? $4 : $2 }}
END {{
    for (i = 1; i <= n; i++) total += quick ? quickly[i] : took[i]
    printf "walked %.9f s\\n", total * (1 + {noise} * (bytes / 1530 - 1) * 6)
}}
"""
STEPS = """def first():
    return {0}


# a few lines
# lie between
# these functions


def second():
    return {1}


# a few lines
# lie between
# these functions


def third():
    return {2}
"""
ENVIRONMENT = {
    **os.environ, "GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_NOSYSTEM": "1", "GIT_AUTHOR_NAME": "A",
    "GIT_AUTHOR_EMAIL": "a@b.example", "GIT_COMMITTER_NAME": "A", "GIT_COMMITTER_EMAIL": "a@b.example",
}  # fmt: skip


def git(folder: Path, *words: str) -> str:
    """Run git as a user without any configuration."""
    done = subprocess.run(
        ["git", "-c", "core.hooksPath=/dev/null", *words], cwd=folder, env=ENVIRONMENT, check=True, capture_output=True,
        text=True,
    )  # fmt: skip
    return done.stdout.strip()


def write_state(
    folder: Path, costs: Sequence[float], answer: str = "same", noise: float = 0.002, breaks: bool = False,
    lasts_s: float = 0.0,
) -> None:  # fmt: skip
    """Write the program as one state has it: what each of its three steps takes, in seconds."""
    (folder / "steps.py").write_text(STEPS.format(*costs), encoding="utf-8")
    wait = f"sleep {lasts_s}\n" if lasts_s else ""
    (folder / "walk.sh").write_text(WALK.format(answer=answer, wait=wait), encoding="utf-8")
    (folder / "walk.awk").write_text(COUNTED.format(noise=noise), encoding="utf-8")
    (folder / "build.sh").write_text(f"exit {int(breaks)}\n", encoding="utf-8")


def make_history(
    folder: Path,
    states: Sequence[Sequence[float]],
    answers: Mapping[int, str] | None = None,
    broken: Sequence[int] = (),
    noise: float = 0.002,
    blocks: int = 10,
    lasts_s: float = 0.0,
) -> list[str]:
    """Make a repository of one commit a state, tagged c0, c1, ...; return the short ids of its commits."""
    git(folder, "init", "-q", "-b", "main")
    (folder / ".gitignore").write_text("answer.txt\nbystander.toml\n__pycache__\n", encoding="utf-8")
    ids = []
    for number, costs in enumerate(states):
        write_state(folder, costs, (answers or {}).get(number, "same"), noise, number in broken, lasts_s)
        git(folder, "add", "-A")
        git(folder, "commit", "-q", "--allow-empty", "-m", f"Step {number}")
        git(folder, "tag", f"c{number}")
        ids.append(git(folder, "rev-parse", "--short", "HEAD"))
    (folder / "bystander.toml").write_text(STUDY.format(blocks=blocks), encoding="utf-8")
    return ids
