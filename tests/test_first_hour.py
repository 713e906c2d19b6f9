"""The page of the first hour does what it says: its commands are run as they stand, and its words come back."""

from __future__ import annotations

import importlib.util
import os
import re
import shlex
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import Run

LONG = bool(os.environ.get("BYSTANDER_LONG"))  # functions and packages too, in as many blocks as it takes
PAGE = (Path(__file__).parents[1] / "docs" / "first-hour.md").read_text(encoding="utf-8")
FILES = {
    "tide.py": (
        "import math\nprint(round(max(math.sin(k / 118.6) + math.sin(k / 114.6) / 3 for k in range(150_000)), 6))\n"
    ),
    "moon.c": (
        "#include <stdio.h>\nint main(void) { volatile double s = 0; for (long k = 0; k < 9000000; k++) s += k % 7; "
        'printf("up\\n"); return 0; }\n'
    ),
    "tides.py": (
        "def heights(port, days):\n    found = []\n    for day in range(days):\n        for hour in range(24):\n"
        "            found.append(len(port) + (day * 24 + hour) % 12.4)\n    return round(sum(found), 3)\n"
    ),
}


def blocks(section: str) -> list[tuple[str, str]]:
    """Return the fenced blocks of a section: language and text."""
    return re.findall(r"```(\w+)\n(.*?)```", section, re.DOTALL)


def test_the_page_does_what_it_says(tmp_path: Path, run: Run) -> None:
    """Each `sh` block is run line by line, where the one before left off; each `text` block is in what came back."""
    if not shutil.which("cc"):
        pytest.skip("a C compiler is not here")
    shown, lines = 0, 0
    for number, section in enumerate(PAGE.split("\n## ")):
        folder = tmp_path / f"{number}"
        folder.mkdir()
        for name, text in FILES.items():
            (folder / name).write_text(text, encoding="utf-8")
        said = ""
        for language, text in blocks(section):
            if not LONG and ("--call" in text or "pip install" in text):
                said = ""
                continue
            if language == "text" and not said:
                continue
            if language == "text":
                told = " ".join(said.split())
                for line in text.strip().splitlines():
                    if line.startswith(("▼", "▲")) and not LONG:  # so few blocks need not show it on a busy machine
                        continue
                    assert " ".join(line.split()) in told, (line, told)
                    shown += 1
                continue
            for line in text.strip().splitlines():
                words = shlex.split(line, comments=True)
                lines += 1
                if words[:2] == ["pip", "install"]:  # they are here already, and tests ask no network
                    for package in words[words.index(".") + 1 :]:
                        source = Path(importlib.util.find_spec(package).origin).parent  # type: ignore[union-attr, arg-type]
                        shutil.copytree(source, folder / package, ignore=shutil.ignore_patterns("__pycache__"))
                elif words[0] == "bystander":
                    few = (
                        () if LONG else ("--fixed", "7" if "--again" in words else "2")
                    )  # it is the page's way that counts
                    done = run(words[1], *few, *words[2:], cwd=folder)
                    said = done.stdout + done.stderr
                else:
                    subprocess.run(words, cwd=folder, check=True)
    assert (shown, lines) == ((9, 23) if LONG else (2, 8))
