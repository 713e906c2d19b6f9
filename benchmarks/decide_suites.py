"""Deciding whole suites at once: against a loop over SciPy's tests that gives the same p and e; and many readings.

usage: python benchmarks/decide_suites.py

Every figure of time is without imports. Memory is the most that the process held, trials included.
"""

from __future__ import annotations

import math
import resource
import subprocess
import sys
import time

import numpy as np
from common import tell
from noises import SEED

from bystander.design import Arm, ArmState, Command, Measure, Origin, Record, RecordHead, State, Study, Trials, Workload
from bystander.stats import p_and_e, walsh_contrasts
from bystander.verdicts import decide

SUITE = (1000, 40, 6)
LARGE = ((1_000_000, 10_000, 50), (1_000_000, 100, 5_000), (10_000_000, 10_000, 500), (10_000_000, 1_000, 5_000))


def suite(workloads: int, blocks: int, measures: int) -> Record:
    """Return a record of a fixed number of blocks, readings without ties."""
    rng = np.random.default_rng(SEED)
    place = rng.integers(0, 2, (workloads, blocks))
    w, b, a = (axis.ravel() for axis in np.indices((workloads, blocks, 2)))
    n = w.size
    trials = Trials(
        w, a, b, np.stack([place, 1 - place], axis=2).ravel(), np.zeros(n, np.int64), np.full(n, np.nan),
        np.exp(rng.normal(0, 0.05, (n, measures))), np.full(n, -1), np.full(n, np.nan), np.zeros(n, np.int64),
        np.zeros(n, np.int64),
    )  # fmt: skip
    study = Study(
        "suite", (Arm("before"), Arm("after")),
        tuple(Workload(f"w{i}", f"w{i}", Command("")) for i in range(workloads)),
        blocks=blocks, seed=SEED,
    )  # fmt: skip
    told = tuple(Measure(f"m{i}" if i else "elapsed", f"measure {i}", "s") for i in range(measures))
    states = tuple(ArmState(name, name, "", "") for name in ("before", "after"))
    head = RecordHead("0", "suite", Origin.OBSERVED, State.COMPLETE, 0.0, study, "", states, (), told, (), "")
    return Record(head, trials)


def against_scipy() -> None:
    """Decide the suite, then get the same p, and the same e, one row at a time."""
    from scipy.stats import wilcoxon  # type: ignore[import-untyped]

    times = []
    for _ in range(5):  # the loop below is long enough to see the machine's usual pace, one decision is not
        record = suite(*SUITE)
        begun = time.perf_counter()
        rows = decide(record).rows
        times.append(time.perf_counter() - begun)
    ours = float(np.median(times))
    workloads, blocks, measures = SUITE
    logs = np.log(record.trials.readings).reshape(workloads, blocks, 2, measures)
    found = {(row.workload, row.measure.name): row for row in rows}
    both, margin, worst = 0.0, math.log1p(record.head.study.margin), 0.0
    begun = time.perf_counter()
    for w in range(workloads):
        for m in range(measures):
            d, row = logs[w, :, 1, m] - logs[w, :, 0, m], found[f"w{w}", f"m{m}" if m else "elapsed"]
            p = wilcoxon(d, method="exact").pvalue
            then = time.perf_counter()
            above = wilcoxon(d + margin, alternative="greater", method="exact").pvalue
            below = wilcoxon(d - margin, alternative="less", method="exact").pvalue
            both += time.perf_counter() - then
            worst = max(worst, abs(p - row.p), abs(max(above, below) - row.e))
    all_three = time.perf_counter() - begun
    theirs = all_three - both
    assert worst < 1e-10, worst
    d = np.ascontiguousarray((logs[:, :, 1] - logs[:, :, 0]).transpose(0, 2, 1).reshape(-1, blocks))
    begun = time.perf_counter()
    p_and_e(walsh_contrasts(d, d), np.full(len(d), 0.03))
    alone = time.perf_counter() - begun
    what = f"{workloads:,} workloads x {blocks} blocks x {measures} measures"
    tell(f"{what}: decide", ours, "s", "under 2")
    tell(f"{what}: a loop over scipy.stats.wilcoxon, the same p", theirs, "s", "-")
    tell(f"{what}: a loop over scipy.stats.wilcoxon, the same p and e", all_three, "s", "-")
    tell(f"{what}: the same tests and those of equivalence, as arrays", alone, "s", "-")
    tell(f"{what}: ratio of the tests alone to p and e", all_three / alone, "times", "20 or more")
    tell(f"{what}: ratio of all that decide does to p and e", all_three / ours, "times", "20 or more")
    tell(f"{what}: ratio of all that decide does to p", theirs / ours, "times", "-")


def one_large(workloads: int, blocks: int) -> None:
    """Decide one measure of so many readings and print time and memory."""
    record = suite(workloads, blocks, 1)
    begun = time.perf_counter()
    decide(record)
    took, held = time.perf_counter() - begun, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    what = f"{2 * workloads * blocks:,} readings, {workloads:,} workloads x {blocks:,} blocks"
    tell(f"{what}: decide", took, "s", "under 15 for ten million")
    tell(f"{what}: memory", held, "GiB", "under 2")


def main() -> None:
    """Run all, each size of its own process."""
    if len(sys.argv) == 3:
        one_large(int(sys.argv[1]), int(sys.argv[2]))
        return
    against_scipy()
    for _, workloads, blocks in LARGE:
        subprocess.run([sys.executable, __file__, str(workloads), str(blocks)], check=True)


if __name__ == "__main__":
    main()
