"""How late it is seen that a trial is ready, and what it costs a trial that its output goes through our pipe."""

from __future__ import annotations

import re
import statistics
import sys
import tempfile
from pathlib import Path
from typing import Any

from common import build_c, tell

from bystander.field import Launcher, ReadyCommand

TELLS = """
import os, random, socket, time
time.sleep(0.02 + random.random() * 0.01)
{what}
os.write(1, b"ready %d\\n" % at)
time.sleep(0.02)
"""
WRITES = r"""
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
int main(int c, char **v) {
    long n = atol(v[1]), size = atol(v[2]);
    char *text = malloc(size);
    memset(text, 'x', size);
    for (long k = 99; k < size; k += 100) text[k] = '\n';
    while (n--) if (write(1, text, size) < 0) return 1;
    return c < 3;
}
"""
TRIALS, PAIRS = 100, 150


def late(launcher: Launcher, folder: Path, ready: dict[str, Any], what: str) -> list[float]:
    """Return by how many ms `until_ready` is behind what the program says of itself, ascending."""
    found = []
    for _ in range(TRIALS):
        (folder / "up").unlink(missing_ok=True)
        words = (sys.executable, "-S", "-c", TELLS.format(what=what))
        outcome = launcher.run(
            ReadyCommand(sys.executable, words, str(folder), {}, 60.0, ready={**ready, "end": False})
        )
        said = re.search(r"ready (\d+)", launcher.output.read_text(encoding="utf-8"))
        assert said
        found.append(1e3 * (outcome.started_monotonic_s + outcome.readings["until_ready"] - int(said[1]) / 1e9))
    return sorted(found)


def dearer(launcher: Launcher, program: Path, pieces: int, size: int) -> float:
    """Return by how many ms a trial that writes takes longer through the pipe, the median of pairs."""
    words, found = (str(program), str(pieces), str(size)), []
    for _ in range(PAIRS):
        took = [
            launcher.run(ReadyCommand(str(program), words, "/", {}, 60.0, ready=ready)).readings["elapsed"]
            for ready in ({}, {"pattern": "listening on", "end": False})
        ]
        found.append(1e3 * (took[1] - took[0]))
    return statistics.median(found)


def main() -> None:
    """Measure both."""
    with tempfile.TemporaryDirectory() as scratch, Launcher() as launcher:
        folder = Path(scratch)
        ways: dict[str, tuple[dict[str, Any], str]] = {
            "a pattern": ({"pattern": "^ready"}, "at = time.monotonic_ns()"),
            "a file": ({"file": str(folder / "up")}, 'at = time.monotonic_ns(); open("up", "w")'),
            "a port": (
                {"port": 18455},
                "s = socket.socket(); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1); "
                's.bind(("127.0.0.1", 18455)); at = time.monotonic_ns(); s.listen(9)',
            ),
        }
        for name, (ready, what) in ways.items():
            seen = late(launcher, folder, ready, what)
            tell(f"{name} is seen so late, median of {TRIALS}", statistics.median(seen), "ms", "under 1")
            tell(f"{name}, 95 of {TRIALS}", seen[94], "ms", "-")
        program = build_c(WRITES, folder)
        for pieces, size in ((16, 65536), (256, 4096), (10486, 100), (1, 1 << 20)):
            more = dearer(launcher, program, pieces, size)
            tell(f"a megabyte in pieces of {size} bytes, over a file", more, "ms", "under 0.5")


if __name__ == "__main__":
    main()
