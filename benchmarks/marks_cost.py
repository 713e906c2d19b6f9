"""What a mark costs while nobody listens and while somebody does; how long 100,000 phases take to be read and drawn."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from common import CALM, tell

from bystander.design import Status, TrialOutcome
from bystander.evidence import TrialFiles, content_of
from bystander.flow.trials.collected import with_evidence
from bystander.report import TrialSide, trial_page

SOURCE = Path(__file__).parents[1] / "src"
PROGRAM = """
import sys, time
sys.path.insert(0, sys.argv[1])
from bystander_marks import flush, phase

def loop(n):
    start = time.perf_counter_ns()
    for _ in range(n):
        pass
    empty = time.perf_counter_ns() - start
    start = time.perf_counter_ns()
    for _ in range(n):
        with phase("ask"):
            pass
    flush()
    return (time.perf_counter_ns() - start - empty) / n

print(min(loop(20000) for _ in range(5)))
"""


def per_phase_ns(folder: Path, listening: bool) -> float:
    """Return the least of some loops in one process, writing included."""
    environment = {**CALM, **({"BYSTANDER_MARKS": str(folder / "told")} if listening else {})}
    words = [sys.executable, "-c", PROGRAM, str(SOURCE)]
    done = subprocess.run(words, env=environment, capture_output=True, text=True, check=True)
    return float(done.stdout)


def main() -> None:
    """Run in turn and print medians of the processes."""
    os.environ.pop("BYSTANDER_MARKS", None)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        found: dict[bool, list[float]] = {False: [], True: []}
        for _ in range(7):
            for listening, times in found.items():
                times.append(per_phase_ns(folder, listening))
                (folder / "told").unlink(missing_ok=True)
        told = folder / "many"
        # One line each, as any language writes them: what Python packs is read faster.
        lines = [f"phase\t{i * 10_000}\t9000\task\tberth {i % 50}\t7\t{i % 3}\t8000\n" for i in range(100_000)]
        told.write_text("".join(lines), encoding="utf-8")
        outcome = TrialOutcome(Status.OK, 0, 1e9, 0.0, {"elapsed": 1.0})
        start = time.perf_counter()
        read = with_evidence(outcome, TrialFiles(told.with_name("output"), told))
        took = time.perf_counter() - start
        line = content_of(read.evidence[0])
        assert len(line) == 100_000
        start = time.perf_counter()
        page = trial_page("many", [TrialSide("now", "1 s", line)] * 2, ())
        drawn = time.perf_counter() - start
    tell("one phase while nobody listens", statistics.median(found[False]), "ns", "under 350")
    tell("one phase while Bystander listens", statistics.median(found[True]), "ns", "under 3000")
    tell("100,000 phases read and summed", took, "s", "under 1")
    tell("the page of two such trials, made", drawn, "s", "-")
    tell("the page of two such trials, shapes", page.count("<rect"), "", "-")


if __name__ == "__main__":
    main()
