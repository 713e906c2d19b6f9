"""How often the exponent's interval holds the truth, what is called faster wrongly, and slow trials: simulated.

usage: python benchmarks/validate_growth.py [--quick] [--to FOLDER]

Values go through the functions that `bystander inspect --inputs` and `--slow` decide with.
"""

from __future__ import annotations

import argparse
import math
import time
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from noises import MODELS, ROOT, SEED, Floats, real_noise

from bystander.stats import apart, block_exponents, count_exponent, exponent_of, flipped, regrouped

SIZES, BLOCKS, CV, RISK = np.array([100.0, 200.0, 400.0, 800.0]), 6, 0.05, 0.05
KINDS = ("normal", "heavy tails", "skewed", "two speeds", "drift", "real")
CURVES = {"n": SIZES, "n^2": SIZES**2, "n log n": SIZES * np.log(SIZES)}
PLACES, SLOW_TRIALS = 8, 60
TEXT = """\
# Validation of growth and slow trials

How often does the interval of an exponent hold the truth, and how often is something called faster, or slow trials
different, that is not? Measured by `python benchmarks/validate_growth.py`; seed {seed}; {took}. Behind a share stands
its standard error.

## The exponent
Seconds at the sizes 100, 200, 400 and 800 in six blocks, each in an order drawn by chance; trials vary by 5 % in five
kinds of noise, and as in real trials (`tests/data/same_code.csv`). The interval is of 95 %; wanted are 94 %. The
truth of n log n is the slope of its own values over the same sizes, {bent:.3f}.

| grows as | noise | times | interval holds the truth | mean width |
| --- | --- | --- | --- | --- |
{exponents}

Exact counts: n and n^2 give 1.000 and 2.000 at every pair of neighbouring sizes; n log n gives {counts}.

## Faster than the rest
Eight places that all grow as the rest does (n): at most 5 % of programs may have any that is called faster. Then one
of them, a tenth of the largest trial, grows as n^2.

| noise | times | any called faster wrongly | n^2 among n is called | another beside it |
| --- | --- | --- | --- | --- |
{faster}

## Slow trials
{trials} trials of eight places; every sixth trial is held for slow. All places alike, whole trials varying by 20 %: at
most 5 % may show any. Then one place of an eighth takes twice as long in slow trials. What lies apart: how many of
{trials} trials without any slow one are taken for slow.

| noise | times | any called wrongly | twice as long is called | another beside it | plain trials taken for slow |
| --- | --- | --- | --- | --- | --- |
{slow}
"""


def noise_of(kind: str, rng: np.random.Generator, count: int, trials: int) -> Floats:
    """Return logs of trials in the order in which they ran, shape (count, trials)."""
    if kind != "real":
        return MODELS[kind](rng, count, trials, CV)
    real = real_noise()
    rows = np.concatenate([real, real], axis=1)[rng.integers(0, len(real), count)]
    return rows[:, :trials]


def shuffled(rng: np.random.Generator, rows: Floats) -> Floats:
    """Return noise by size and block, shape (count, sizes, blocks): sizes run in an order drawn in each block."""
    by_block = rows.reshape(len(rows), BLOCKS, SIZES.size)
    return np.swapaxes(rng.permuted(by_block, axis=2), 1, 2)


def share(hits: float, of: int) -> str:
    """Return a share with its standard error."""
    p = hits / of
    return f"{100 * p:.1f} % (± {100 * math.sqrt(p * (1 - p) / of):.1f})"


def exponents(times: int) -> list[str]:
    """Return the table of intervals that hold the truth."""
    lines = []
    for curve, values in CURVES.items():
        truth = float(block_exponents(SIZES, values[:, None])[0])
        for kind in KINDS:
            rng = np.random.default_rng([SEED, 21, *map(ord, curve + kind)])
            noise = shuffled(rng, noise_of(kind, rng, times, SIZES.size * BLOCKS))
            found = [exponent_of(one, RISK) for one in block_exponents(SIZES, values[:, None] * np.exp(noise))]
            held = sum(one.low <= truth <= one.high for one in found)
            width = np.mean([one.high - one.low for one in found])
            lines.append(f"| {curve} | {kind} | {times} | {share(held, times)} | {width:.3f} |")
    return lines


def _called(noise: Floats, rng: np.random.Generator, quick: bool) -> np.ndarray:
    """Return which places are called faster; whole trials vary by the noise, each place besides by 3 %."""
    own = rng.normal(0, 0.03, (PLACES, *noise.shape))
    values = np.exp(noise + own) * SIZES[:, None] / PLACES
    if quick:
        values[0] = np.exp(noise + own[0]) * SIZES[:, None] ** 2 / SIZES[-1] / PLACES
    total = values.sum(axis=0) + SIZES[:, None] * np.exp(noise) * 0.25
    slopes = np.stack([block_exponents(SIZES, one) - block_exponents(SIZES, total - one) for one in values])
    tested = flipped(slopes, RISK)
    return np.asarray(tested.shown & (tested.mean > 0))


def faster(times: int) -> list[str]:
    """Return the table of what is called faster than the rest."""
    lines = []
    for kind in KINDS:
        rng = np.random.default_rng([SEED, 22, *map(ord, kind)])
        wrong = seen = beside = 0
        for noise in shuffled(rng, noise_of(kind, rng, times, SIZES.size * BLOCKS)):
            wrong += bool(_called(noise, rng, quick=False).any())
            called = _called(noise, rng, quick=True)
            seen, beside = seen + bool(called[0]), beside + bool(called[1:].any())
        cells = [share(hits, times) for hits in (wrong, seen, beside)]
        lines.append(f"| {kind} | {times} | {' | '.join(cells)} |")
    return lines


def slow(times: int) -> list[str]:
    """Return the table of slow trials."""
    lines = []
    group = np.arange(SLOW_TRIALS) % 6 == 0
    for kind in KINDS:
        rng = np.random.default_rng([SEED, 23, *map(ord, kind)])
        wrong = seen = beside = 0
        taken = 0.0
        for row in noise_of(kind, rng, times, SLOW_TRIALS):
            whole = rng.permutation(row)
            plain = np.exp(whole + rng.normal(0, 0.2, SLOW_TRIALS) + rng.normal(0, 0.03, (PLACES, SLOW_TRIALS)))
            wrong += bool(regrouped(plain, group, RISK, 1).shown.any())
            twice = plain.copy()
            twice[0, group] *= 2
            shown = regrouped(twice, group, RISK, 1).shown
            seen, beside = seen + bool(shown[0]), beside + bool(shown[1:].any())
            taken += float(apart(np.exp(row))[1].sum()) / SLOW_TRIALS
        cells = [share(hits, times) for hits in (wrong, seen, beside)]
        lines.append(f"| {kind} | {times} | {' | '.join(cells)} | {100 * taken / times:.1f} % |")
    return lines


def main(words: Sequence[str] | None = None) -> None:
    """Measure, and write the page."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--to", type=Path, default=ROOT / "docs")
    asked = parser.parse_args(words)
    begun = time.monotonic()
    times = 40 if asked.quick else 2000
    told = exponents(10 * times), faster(times), slow(times)
    bent = count_exponent(SIZES, CURVES["n log n"])
    how = f"{'quick form' if asked.quick else 'full form'}, {(time.monotonic() - begun) / 60:.0f} minutes"
    text = TEXT.format(
        seed=SEED, took=how, trials=SLOW_TRIALS, bent=bent.exponent,
        counts=f"{bent.exponent:.3f} ({bent.low:.3f} to {bent.high:.3f})", exponents="\n".join(told[0]),
        faster="\n".join(told[1]), slow="\n".join(told[2]),
    )  # fmt: skip
    (asked.to / "validation-growth.md").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
