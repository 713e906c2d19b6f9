"""Which way of measuring shows the smallest change in the same time: on trials of one code, run here and now.

usage: python benchmarks/less_noise.py [--rounds N] [--busy]

Five small programs run in turn, eight trials of each back to back; trials that follow each other make blocks of a
study in which nothing changed. For each way: the smallest change that 8 of 10 studies of 30 such blocks would show at
5 %, as the 80 % quantile of how far the interval of a study reaches below no change. Ratios are of one run.
"""

from __future__ import annotations

import argparse
import math
import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bystander.field import Launcher, ReadyCommand, machine_state
from bystander.stats import interval, signed_rank_null, walsh_contrasts

Floats = NDArray[np.float64]
BLOCKS, STUDIES, LEVEL, TOGETHER = 30, 600, 0.05, 8
PROGRAMS = {
    "compute": "from math import sin; max(sin(t / 118.6) + sin(t / 114.6) / 3 for t in range(120_000))",
    "objects": "d = {str(i): [i] for i in range(40_000)}; s = sorted(d, key=d.get)",
    "database": "import sqlite3; c = sqlite3.connect(':memory:'); c.execute('create table t(a, b)'); "
    "c.executemany('insert into t values (?, ?)', ((i, i % 97) for i in range(15_000))); "
    "c.execute('select b, sum(a) from t group by b').fetchall()",
    "files": "import os\nfor i in range(150): open(f'noise_{i % 9}', 'wb').write(b'x' * 9000); os.stat('noise_0')",
    "start": "pass",
}
BUSY = """
import random, time
while True:
    until = time.time() + random.uniform(0.05, 0.4)
    while time.time() < until:
        pass
    time.sleep(random.uniform(0.05, 0.6))
"""
_SPIN = range(20_000)


def spin_s() -> float:
    """Return how long a short fixed piece of work takes just now."""
    begun = time.perf_counter()
    total = 0
    for i in _SPIN:
        total += i
    return time.perf_counter() - begun


def before() -> list[float]:
    """Return what is read just before a trial: spin, log of its seconds; stall in it; programs that want to run."""
    stalled = machine_state().stalled_s or 0.0
    spin = spin_s()
    running = Path("/proc/loadavg").read_text(encoding="ascii").split()[3].partition("/")[0]
    return [math.log(spin), (machine_state().stalled_s or 0.0) - stalled, float(running)]


@contextmanager
def others(busy: bool) -> Iterator[None]:
    """Run two programs beside the trials that compute now and then, where asked for."""
    running = [subprocess.Popen([sys.executable, "-c", BUSY]) for _ in range(2 if busy else 0)]
    try:
        yield
    finally:
        for one in running:
            one.kill()
            one.wait()


def collected(rounds: int, folder: str) -> dict[str, tuple[Floats, Floats]]:
    """Return, by program: readings (rounds, 8, 3) elapsed, CPU, elapsed less run-queue delay; covariates alike."""
    python = os.path.realpath(sys.executable)
    environment = {"PATH": "/usr/bin:/bin", "PYTHONHASHSEED": "0"}
    commands = {
        name: ReadyCommand(python, (python, "-S", "-c", code), folder, environment, 30)
        for name, code in PROGRAMS.items()
    }
    read = {name: np.empty((rounds, TOGETHER, 3)) for name in PROGRAMS}
    told = {name: np.empty((rounds, TOGETHER, 3)) for name in PROGRAMS}
    with Launcher() as launcher:
        for number in range(rounds):
            for name in random.Random(number).sample(list(PROGRAMS), len(PROGRAMS)):
                for place in range(TOGETHER):
                    told[name][number, place] = before()
                    seen = launcher.run(commands[name]).readings
                    delay = seen.get("run_queue_delay", math.nan)
                    read[name][number, place] = seen["elapsed"], seen["cpu"], max(seen["elapsed"] - delay, 1e-9)
    return {name: (np.log(read[name]), told[name]) for name in PROGRAMS}


def t4_scores(n: int) -> Floats:
    """Return rank scores that are best for Student's t of 4 degrees (Hajek and Sidak 1967)."""
    x = np.array([_t4_quantile((1 + i / (n + 1)) / 2) for i in range(1, n + 1)])
    scores: Floats = 5 * x / (4 + x**2)
    return scores


def _t4_quantile(p: float) -> float:
    """Return the quantile of t of 4 degrees, which has a closed form (Shaw 2006)."""
    alpha = 4 * p * (1 - p)
    q = math.cos(math.acos(math.sqrt(alpha)) / 3) / math.sqrt(alpha)
    return math.copysign(2 * math.sqrt(max(0.0, q - 1)), p - 0.5)


def critical(scores: Floats) -> float:
    """Return the least sum of signed scores whose one-sided p is at most LEVEL / 2, by drawing signs."""
    signs = np.random.default_rng(1).choice((-1.0, 1.0), (200_000, scores.size))
    return float(np.quantile(signs @ scores, 1 - LEVEL / 2, method="higher"))


def lowest(d: Floats, covariates: Floats | None, scores: Floats, least: float) -> Floats:
    """Return the lower end of each study's interval, by halving: shifts below it are rejected.

    Parameters
    ----------
    d : ndarray, shape (S, n)
    covariates : ndarray, shape (S, n, k), or None
        Differences within blocks; d less the shift is regressed on them through the origin, and its residuals are
        tested. A swap of the arms flips d and covariates together and leaves the slope as it is, so that is exact.
    """
    low: Floats = d.min(axis=1) - 1.0
    high: Floats = d.max(axis=1)
    for _ in range(45):
        middle = (low + high) / 2
        rest = d - middle[:, None]
        if covariates is not None:
            gram = np.einsum("snk,snj->skj", covariates, covariates) + 1e-12 * np.eye(covariates.shape[2])
            slope = np.linalg.solve(gram, np.einsum("snk,sn->sk", covariates, rest)[:, :, None])
            rest = rest - np.einsum("snk,sk->sn", covariates, slope[:, :, 0])
        ranks = np.argsort(np.argsort(np.abs(rest), axis=1), axis=1)
        rejected = np.sum(np.sign(rest) * scores[ranks], axis=1) >= least
        low, high = np.where(rejected, middle, low), np.where(rejected, high, middle)
    return low


Way = Callable[[Floats, Floats], Floats]


def by_measure(place: int) -> Way:
    """Return the way of the product, by one of the measures."""

    def way(d: Floats, _covariates: Floats) -> Floats:
        low, _ = interval(walsh_contrasts(d[:, :, place], d[:, :, place]), np.full(d.shape[0], LEVEL))
        return low

    return way


def with_scores(place: int) -> Way:
    """Return t4 rank scores in the place of ranks."""
    scores = t4_scores(BLOCKS)
    least = critical(scores)
    return lambda d, _covariates: lowest(d[:, :, place], None, scores, least)


def with_covariates(place: int, which: tuple[int, ...]) -> Way:
    """Return the regression on what was read before."""
    ranks = np.arange(1.0, BLOCKS + 1)
    null = signed_rank_null(BLOCKS)
    least = null.total - 2 * null.largest(LEVEL / 2)
    return lambda d, covariates: lowest(d[:, :, place], covariates[:, :, which], ranks, least)


WAYS: dict[str, Way] = {
    "elapsed": by_measure(0), "CPU time": by_measure(1), "elapsed less run-queue delay": by_measure(2),
    "elapsed, t4 scores": with_scores(0), "CPU time, t4 scores": with_scores(1),
    "elapsed, spin before": with_covariates(0, (0,)), "elapsed, stall before": with_covariates(0, (1,)),
    "elapsed, queue before": with_covariates(0, (2,)), "elapsed, all three before": with_covariates(0, (0, 1, 2)),
    "CPU time, spin before": with_covariates(1, (0,)),
}  # fmt: skip


def studies(read: Floats, told: Floats, rng: np.random.Generator) -> tuple[Floats, Floats]:
    """Return differences (STUDIES, 30, 3) and those of covariates: neighbours as blocks, in random order."""
    pairs, before_them = read.reshape(-1, 2, 3), told.reshape(-1, 2, 3)
    starts = rng.integers(0, len(pairs) - BLOCKS + 1, STUDIES)
    places = starts[:, None] + np.arange(BLOCKS)
    sign = rng.choice((-1.0, 1.0), (STUDIES, BLOCKS, 1))
    return (
        np.diff(pairs, axis=1)[:, 0][places] * sign,
        np.diff(before_them, axis=1)[:, 0][places] * sign,
    )


def by_length(read: Floats, rng: np.random.Generator) -> dict[str, float]:
    """Return the smallest change by blocks of 1, 2 and 4 trials an arm, all in the time of 120 pairs."""
    elapsed, found = np.exp(read[:, :, 0]), {}
    for length in (1, 2, 4):
        trials = np.log(elapsed.reshape(len(elapsed), -1, 2, length).sum(axis=3))
        d = np.diff(trials, axis=2)[:, :, 0].ravel()
        blocks = 120 // length
        starts = rng.integers(0, d.size - blocks + 1, STUDIES)
        study = d[starts[:, None] + np.arange(blocks)] * rng.choice((-1.0, 1.0), (STUDIES, blocks))
        low, _ = interval(walsh_contrasts(study, study), np.full(STUDIES, LEVEL))
        found[f"{blocks} blocks of {length}"] = smallest(low)
    return found


def smallest(low: Floats) -> float:
    """Return the change that 8 of 10 studies would show."""
    return math.expm1(float(np.quantile(-low, 0.8)))


def main() -> None:
    """Run, and print one table of percents and ratios."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=60)
    parser.add_argument("--busy", action="store_true")
    asked = parser.parse_args()
    with others(asked.busy), tempfile.TemporaryDirectory() as folder:
        trials = collected(max(asked.rounds, BLOCKS + 1), folder)
    rows: dict[str, list[float]] = {}
    for read, told in trials.values():
        rng = np.random.default_rng(3)
        d, covariates = studies(read, told, rng)
        for name, way in WAYS.items():
            usable = np.isfinite(d).all()
            rows.setdefault(name, []).append(smallest(way(d, covariates)) if usable else math.nan)
        for name, value in by_length(read, rng).items():
            rows.setdefault(name, []).append(value)
    print("| way | " + " | ".join(trials) + " | over elapsed, geometric mean |")
    print("| --- |" + " --- |" * (len(trials) + 1))
    for name, values in rows.items():
        base = rows["120 blocks of 1"] if " blocks of " in name else rows["elapsed"]
        ratio = math.exp(float(np.mean(np.log(np.array(values) / np.array(base)))))
        print(f"| {name} | " + " | ".join(f"{100 * value:.1f} %" for value in values) + f" | {ratio:.2f} |")


if __name__ == "__main__":
    main()
