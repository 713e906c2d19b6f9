"""What each condition of a trial does to the harbour office: one value of it against another, or drawn for each block.

usage: python benchmarks/bias.py [BLOCKS]

Every study compares tidebook v1 with itself. Where a fixed condition differs between the arms, a change that is shown
is the condition's doing. Where a condition is drawn anew for each block, the precision shows what it costs.
"""

from __future__ import annotations

import json
import os
import platform
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from common import BYSTANDER, CALM

WORKLOADS = {
    "gauge": "{python} -m tidebook gauge --days 30",
    "notices": "{python} -m tidebook notices --count 1500",
}
REST = "sleep 0.05"  # a virtual machine that works all the time is held back by its host
ARM = f'revision = "v1"\nsettings.python = "{sys.executable}"\n'
PADDING = "x" * 4000
QUIET = "niceness = -10\n" if os.geteuid() == 0 else ""  # ahead of whatever else runs here


def study(top: str = "", before: str = "", after: str = "", workloads: dict[str, str] | None = None) -> str:
    """Return a study of v1 against itself; settings tell the arms apart where nothing else does."""
    text = f'{top}\nmargin = "1 %"\nmeasure = "cpu"\n{QUIET}[arms.before]\n{ARM}{before}\n[arms.after]\n{ARM}{after}\n'
    return text + "".join(
        f'[workloads.{name}]\ncommand = "{line}"\nbefore_each = "{REST}"\n'
        for name, line in (workloads or WORKLOADS).items()
    )


def shell(prefix: str) -> dict[str, str]:
    """Return the workloads with words of the arm's setting `before` in front of their commands."""
    return {name: prefix + " " + line for name, line in WORKLOADS.items()}


STUDIES = {
    "nothing (the same twice)": study("", "settings.twin = 1", "settings.twin = 2"),
    "hash seed 0, hash seed 3": study("", "environment.PYTHONHASHSEED = 0", "environment.PYTHONHASHSEED = 3"),
    "environment small, 4,000 bytes more": study("", "", f'environment.OFFICE = "{PADDING}"'),
    "niceness 0, niceness 19": study("", 'settings.n = "0"', 'settings.n = "19"', shell("nice -n {n}")),
    "any processor, one processor": study("", 'settings.c = "0-1"', 'settings.c = "0"', shell("taskset -c {c}")),
    "addresses at random, laid out alike": study(
        "", f'settings.r = "{platform.machine()}"', 'settings.r = "-R"', shell("setarch {r}")
    ),
    "vary nothing": study("", "settings.twin = 1", "settings.twin = 2"),
    "vary hash seed": study('vary = ["hash seed"]', "settings.twin = 1", "settings.twin = 2"),
    "vary environment size": study('vary = ["environment size"]', "settings.twin = 1", "settings.twin = 2"),
    "vary folder depth": study('vary = ["folder depth"]', "settings.twin = 1", "settings.twin = 2"),
}


def main() -> None:
    """Run every study and print a table for either time."""
    blocks = sys.argv[1] if len(sys.argv) > 1 else "100"
    head = "| what differs | " + " | ".join(WORKLOADS) + " |\n| --- |" + " --- |" * len(WORKLOADS)
    tables = {"cpu": [head], "elapsed": [head]}
    with tempfile.TemporaryDirectory() as scratch:
        office = Path(scratch, "office")
        subprocess.run([BYSTANDER, "demo", "--recorded", str(office)], check=True, stdout=subprocess.DEVNULL, env=CALM)
        for name, text in STUDIES.items():
            (office / "bias.toml").write_text(text, encoding="utf-8")
            words = ["observe", "--quiet", "--study", "bias.toml", "--blocks", blocks, "--seed", "7"]
            subprocess.run([BYSTANDER, *words], check=True, cwd=office, stdout=subprocess.DEVNULL, env=CALM)
            for measure, lines in tables.items():
                told = [BYSTANDER, "decide", "--json", "--measure", measure]
                done = subprocess.run(told, check=True, cwd=office, capture_output=True, env=CALM)
                rows = {row["workload"]: row for row in json.loads(done.stdout)["results"] if row["primary"]}
                lines.append(f"| {name} | " + " | ".join(_cell(rows[w]) for w in WORKLOADS) + " |")
    for measure, lines in tables.items():
        print(f"\nBy {measure} time, {blocks} blocks:\n")
        print("\n".join(lines))


def _cell(row: dict[str, Any]) -> str:
    low, high = ((end - 1) * 100 for end in row["interval"])
    return f"{row['verdict']} {100 * (row['ratio'] - 1):+.1f} % ({low:+.1f} to {high:+.1f})"


if __name__ == "__main__":
    main()
