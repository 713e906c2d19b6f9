"""A callable of about a microsecond, timed by the harness and by a loop written by hand, in turn."""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from common import CALM, tell

HARNESS = Path(__file__).parents[1] / "src" / "bystander" / "field" / "inside" / "callable_harness.py"
MODULE = "def work():\n    return max(3 * (t % 7) - (t % 12) for t in range(14))\n"
BY_HAND = """
import gc, statistics, sys, time
sys.path.insert(0, ".")
from office import work

def timed(n):
    start = time.perf_counter_ns()
    for _ in range(n):
        work()
    return (time.perf_counter_ns() - start) / n

found = []
for _ in range(30):
    gc.collect()
    gc.disable()
    found.append(timed(int(sys.argv[1])))
    gc.enable()
print(statistics.median(found[3:]))
"""


def harness_ns(folder: Path, iterations: int) -> tuple[float, float]:
    """Return (median per iteration, the loop's cost per iteration) in ns; the loop is not taken off."""
    spec = {
        "call": "office:work", "given": None, "values": None, "fresh": False, "iterations": iterations, "samples": 30,
        "sample_s": 0.01, "garbage": "held", "show": False,
    }  # fmt: skip
    results = folder / "results"
    words = [sys.executable, str(HARNESS), json.dumps(spec)]
    subprocess.run(words, cwd=folder, env={**CALM, "BYSTANDER_RESULTS": str(results)}, check=True)
    told = json.loads(results.read_text(encoding="utf-8"))
    return statistics.median(told["elapsed_ns"][3:]) / iterations, told["loop_ns"] / iterations


def main() -> None:
    """Run in turn and print medians and ratios."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        (folder / "office.py").write_text(MODULE, encoding="utf-8")
        ours, loops, by_hand = [], [], []
        for _ in range(15):
            took, loop = harness_ns(folder, 10_000)
            ours.append(took)
            loops.append(loop)
            words = [sys.executable, "-c", BY_HAND, "10000"]
            done = subprocess.run(words, cwd=folder, env=CALM, capture_output=True, text=True, check=True)
            by_hand.append(float(done.stdout))
    tell("a loop by hand", statistics.median(by_hand), "ns", "-")
    tell("the harness, its loop included", statistics.median(ours), "ns", "-")
    tell(
        "the harness over the loop by hand",
        statistics.median(mine / plain for mine, plain in zip(ours, by_hand, strict=True)),  # of runs side by side
        "times",
        "0.97 to 1.03",
    )
    tell("the empty loop, per iteration, which is taken off", statistics.median(loops), "ns", "under 20, or taken off")


if __name__ == "__main__":
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    main()
