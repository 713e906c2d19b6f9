"""How often Bystander is wrong, and how much it sees: measured through the function that its commands decide with.

usage: python benchmarks/validate.py [--quick] [--to FOLDER]

Writes validation.md and validation.svg, into docs/ by default. Every cell draws from a seed of its own, so that the
figures do not depend on how the work is spread over processors.
"""

from __future__ import annotations

import argparse
import math
import os
import time
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Executor, ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
from noises import MODELS, ROOT, SEED, Floats, alone, decided, real_noise, shuffled
from validate_ceilings import ceilings
from validate_wholes import wholes
from validation_text import TEXT, picture, share

from bystander.foresight import shared_blocks, steadied
from bystander.stats import blocks_for_shift, examine, interval, planned_looks, smallest_shown, walsh_contrasts
from bystander.verdicts import Row

CHANGED = ("slower", "faster")
REAL = "**real trials of one code**"
OURS = {
    "**Bystander: looks, at most 25 blocks**": "looks",
    "Bystander `--strict`": "strict",
    "Bystander `--fixed 25`": "fixed",
}


@dataclass(frozen=True)
class Sizes:
    """How much is drawn: studies of one workload, and suites by their number of workloads."""

    studies: int
    suites: dict[int, int]

    def of(self, full: int) -> int:
        """Return how many are drawn of so many in the full form."""
        return max(4, full * self.studies // 2000)


FULL, QUICK = Sizes(2000, {20: 400, 200: 160}), Sizes(24, {20: 4, 200: 1})
STEP = 250  # studies that are drawn and decided as one piece of work


def rng_of(*key: object) -> np.random.Generator:
    """Return a generator for one piece of work."""
    return np.random.default_rng([SEED, *(part if isinstance(part, int) else sum(map(ord, str(part))) for part in key)])


def in_pieces(pool: Executor, work: Callable[[int, int], list[float]], studies: int) -> Floats:
    """Return the mean of what each study gives, column by column; `work` takes a piece's number and size."""
    counts = [min(STEP, studies - start) for start in range(0, studies, STEP)]
    found = list(pool.map(work, range(len(counts)), counts))
    totals: Floats = np.sum(np.array(found), axis=0)
    return totals


def is_changed(rows: Iterable[Row]) -> int:
    """Count rows shown as changed."""
    return sum(row.verdict in CHANGED for row in rows)


# What others do, on the same trials: all of them say "changed" or not.
def shortcuts(noise: Floats, rng: np.random.Generator) -> dict[str, float]:
    """Return, for each common way, how many rows of unchanged noise it calls changed."""
    n = noise.shape[1] // 2
    first, second = noise[:, :n], noise[:, n : 2 * n]
    reference, candidate, _ = shuffled(noise, rng)
    two = math.log(1.02)
    spread = np.sqrt(first.var(axis=1, ddof=1) / n + second.var(axis=1, ddof=1) / n)
    peeked = np.zeros(noise.shape[0], dtype=bool)
    for blocks in range(6, n + 1):
        difference = (candidate - reference)[:, :blocks]
        peeked |= examine(walsh_contrasts(difference, difference), np.full(noise.shape[0], two)).p < 0.05
    found = {
        "one run of each, differ by over 2 %": np.abs(noise[:, 0] - noise[:, 1]) > two,
        "all of one, then all of the other; means differ by over 2 %": np.abs(first.mean(1) - second.mean(1)) > two,
        "the same; best of all differ by over 2 %": np.abs(first.min(axis=1) - second.min(axis=1)) > two,
        "the same; Welch's t beyond 2.02": np.abs(first.mean(axis=1) - second.mean(axis=1)) > 2.02 * spread,
        "shuffled blocks, but a look after every block, stop at p < 0.05": peeked,
        "inner iterations taken as independent": iterated(noise, rng),
    }
    return {way: float(np.sum(said)) for way, said in found.items()}


def iterated(noise: Floats, rng: np.random.Generator) -> Floats:
    """Return which rows a rank test over 100 iterations in each of 5 processes an arm calls changed.

    Iterations scatter within their process by half of what processes scatter.
    """
    inner = 0.5 * float(np.median(np.std(noise, axis=1)))
    told = []
    for row in noise:
        arms = [np.repeat(row[start : start + 5], 100) + rng.normal(0, inner, 500) for start in (0, 5)]
        ranks = np.argsort(np.argsort(np.concatenate(arms)))
        u = ranks[:500].sum() - 500 * 499 / 2
        told.append(abs(u - 125_000) / math.sqrt(500 * 500 * 1001 / 12) > 1.96)
    return np.array(told)


def _alarms(name: str, piece: int, count: int) -> list[float]:
    rng = rng_of(1, name, piece)
    if name == REAL:
        real = real_noise()
        noise = real[rng.integers(0, len(real), count)]
    else:
        noise = MODELS[name](rng, count, 50, 0.05)
    by_rule = [float(is_changed(alone(noise, rng, stopping=rule))) for rule in OURS.values()]
    return [*shortcuts(noise, rng).values(), *by_rule]


def false_alarms(pool: Executor, sizes: Sizes) -> tuple[list[str], dict[str, float]]:
    """Return the table of unchanged programs called changed, and the shares on real trials."""
    ways = [*shortcuts(MODELS["normal"](rng_of(0), 2, 50, 0.05), rng_of(0)), *OURS]
    columns = {}
    for name in [*MODELS, REAL]:
        hits = in_pieces(pool, partial(_alarms, name), sizes.studies) / sizes.studies
        columns[name] = dict(zip(ways, hits.tolist(), strict=True))
    lines = ["| way | " + " | ".join(columns) + " |", "| --- |" + " --- |" * len(columns)]
    lines += [f"| {way} | " + " | ".join(f"{100 * columns[n][way]:.1f} %" for n in columns) + " |" for way in ways]
    return lines, columns[REAL]


def _suite(name: str, size: int, changed: int, piece: int) -> tuple[int, float]:
    """Return how many unchanged rows of a suite are shown as changed, and their share of those shown."""
    rng = rng_of(2, name, size, changed, piece)
    effect = np.where(np.arange(size) < changed, math.log(1.1), 0.0)
    rows = decided(MODELS[name](rng, size, 80, 0.05), rng, effect)
    shown = [i for i, row in enumerate(rows) if row.verdict in CHANGED]
    false = sum(i >= changed for i in shown)
    return false, false / max(1, len(shown))


def suites(pool: Executor, sizes: Sizes) -> list[str]:
    """Return the table of suites: any false row when nothing changed, and false rows among those shown."""
    heads = ["1 unchanged: shown", *(f"{size} unchanged: any row shown" for size in sizes.suites)]
    heads += [f"{size}, a fifth 10 % slower: false among the shown" for size in sizes.suites]
    lines = ["| noise | " + " | ".join(heads) + " |", "| --- |" + " --- |" * len(heads)]
    for name in MODELS:
        single = in_pieces(pool, partial(_single, name), sizes.studies)
        cells = [share(float(single[0]), sizes.studies)]
        for size, count in sizes.suites.items():
            found = list(pool.map(partial(_suite, name, size, 0), range(count), chunksize=5))
            cells.append(share(sum(false > 0 for false, _ in found), count))
        for size, count in sizes.suites.items():
            found = list(pool.map(partial(_suite, name, size, size // 5), range(count), chunksize=5))
            cells.append(f"{100 * float(np.mean([part for _, part in found])):.1f} %")
        lines.append(f"| {name} | " + " | ".join(cells) + " |")
    return lines


def _single(name: str, piece: int, count: int) -> list[float]:
    rng = rng_of(3, name, piece)
    return [float(is_changed(alone(MODELS[name](rng, count, 80, 0.05), rng)))]


def _power(change: float, cv: float, margin: float, rules: Sequence[str], piece: int, count: int) -> list[float]:
    """Return how many find the change and how many blocks they take, rule by rule."""
    rng = rng_of(4, round(1e6 * change), round(1e6 * cv), piece)
    noise, found = MODELS["normal"](rng, count, 80, cv), []
    for rule in rules:
        rows = alone(noise, rng, math.log1p(change), margin, rule)
        found += [float(sum(row.verdict == "slower" for row in rows)), float(sum(row.blocks for row in rows))]
    return found


def power(pool: Executor, sizes: Sizes) -> list[str]:
    """Return how often a true change is shown, of one workload of at most 40 blocks, and how many it took."""
    lines = [
        "| change | noise (CV) | looks: found | blocks used | strict: found | blocks used | fixed 40: found |",
        "| --- | --- |" + " --- |" * 5,
    ]
    studies = sizes.studies // 2
    for change in (0.02, 0.05, 0.10):
        for cv in (0.02, 0.05, 0.10):
            found = in_pieces(pool, partial(_power, change, cv, 0.01, ("looks", "strict", "fixed")), studies) / studies
            looks, strict, fixed = (f"{100 * x:.0f} %" for x in found[::2])
            cells = f"{looks} | {found[1]:.1f} | {strict} | {found[3]:.1f} | {fixed}"
            lines.append(f"| {100 * change:.0f} % | {100 * cv:.0f} % | {cells} |")
    return lines


def walds_bound(found: float, effect: float, risk: float = 0.05) -> float:
    """Return the blocks on average of Wald's sequential test of one known shift, each side at half the risk (1947).

    Parameters
    ----------
    found : float
        Share of studies that find it; `effect` is the shift in standard deviations of a block's difference.
    """
    missed, side = 1 - found, risk / 2
    lost = missed * math.log(missed / (1 - side)) if missed > 0 else 0.0
    return (found * math.log(found / side) + lost) / (effect**2 / 2)


def distance(pool: Executor, sizes: Sizes) -> list[str]:
    """Return blocks used against Wald's bound at the same errors, by the size of the shift."""
    lines = [
        "| shift, in standard deviations of a block | found | blocks used | Wald's bound | ratio |",
        "| --- | --- | --- | --- | --- |",
    ]
    for effect in (1.0, 0.9, 0.8, 0.7, 0.6, 0.5, 0.4, 0.3):
        change = math.expm1(effect * 0.02 * math.sqrt(2))
        found = in_pieces(pool, partial(_power, change, 0.02, 1e-4, ("looks",)), sizes.studies) / sizes.studies
        bound = walds_bound(float(found[0]), effect)
        cells = f"{100 * found[0]:.1f} % | {found[1]:.1f} | {bound:.1f} | {found[1] / bound:.2f}"
        lines.append(f"| {effect:.1f} | {cells} |")
    return lines


COVERED = (0.02, 0.05, 0.15)


def _coverage(name: str, piece: int, count: int) -> list[float]:
    rng = rng_of(5, name, piece)
    found: list[float] = []
    for change in COVERED:
        rows = alone(MODELS[name](rng, count, 80, 0.05), rng, math.log1p(change), 0.01)
        rows = [row for row in rows if row.verdict != "same"]
        found += [float(sum(row.low <= 1 + change <= row.high for row in rows)), float(len(rows))]
    quiet = alone(MODELS[name](rng, count, 80, 0.02), rng)
    same = [row for row in quiet if row.verdict == "same"]
    return [*found, float(len(same)), float(sum(row.blocks for row in quiet))]


def coverage(pool: Executor, sizes: Sizes) -> list[str]:
    """Return how often the interval holds the true change, and how often "same" is said of an unchanged program."""
    heads = [f"true change {100 * change:.0f} % held" for change in COVERED]
    heads += ["unchanged, CV 2 %: shown to be the same within 3 %", "blocks used for it"]
    lines = ["| noise | " + " | ".join(heads) + " |", "| --- |" + " --- |" * len(heads)]
    for name in MODELS:
        studies = sizes.studies // 2
        found = in_pieces(pool, partial(_coverage, name), studies).tolist()
        cells = [share(found[2 * k], int(found[2 * k + 1])) for k in range(len(COVERED))]
        cells += [share(found[-2], studies), f"{found[-1] / studies:.1f}"]
        lines.append(f"| {name} | " + " | ".join(cells) + " |")
    return lines


def _foretold(name: str, piece: int, count: int) -> list[float]:
    """Return, of so many studies each: shown of what check foretold, by change and by blocks; and by an unclear row."""
    rng, margin, small = rng_of(6, name, piece), math.log(1.03), 0.001
    shown = np.zeros(4)
    for _ in range(count):
        tried = MODELS[name](rng, 1, 16, 0.05)[0]
        differences, seed = tried[::2] - tried[1::2], int(rng.integers(2**31))
        least = smallest_shown(differences, planned_looks(40, 0.05), 0.05, math.log1p(small), seed)
        shown[0] += alone(MODELS[name](rng, 1, 80, 0.05), rng, least, small)[0].verdict == "slower"
        blocks = blocks_for_shift(differences, 2 * margin, 0.05, margin, lambda most: planned_looks(most, 0.05), seed)
        most = 2 * int(min(blocks, 300))
        shown[1] += alone(MODELS[name](rng, 1, most, 0.05), rng, 2 * margin)[0].verdict == "slower"
        (row,) = alone(MODELS[name](rng, 1, 24, 0.05), rng, stopping="fixed")
        if not math.isnan(row.blocks_for_margin):
            most = 2 * int(min(row.blocks_for_margin, 300))
            shown[3] += 1
            shown[2] += alone(MODELS[name](rng, 1, most, 0.05), rng, margin)[0].verdict == "slower"
    return shown.tolist()


def foretold(pool: Executor, sizes: Sizes) -> list[str]:
    """Return how often what was foretold came true."""
    lines = [
        "| noise | `check`: the smallest change | `check`: the blocks for 6 % | an unclear row: the blocks for 3 % |",
        "| --- | --- | --- | --- |",
    ]
    studies = max(4, sizes.studies // 6)
    for name in MODELS:
        found = in_pieces(pool, partial(_foretold, name), studies).tolist()
        cells = [share(found[0], studies), share(found[1], studies), share(found[2], max(1, int(found[3])))]
        lines.append(f"| {name} | " + " | ".join(cells) + " |")
    return lines


SUITE, TRIED_SHARE, LEAST = 12, 0.15, 9  # workloads, the part of a budget that trial blocks take, blocks at least
EARLIER = 40  # blocks of an earlier record


def _budget(rounds: int, earlier: bool, piece: int, count: int) -> list[float]:
    """Return sums over suites of the log of the worst half width, shared out over equal, and how many are narrower."""
    rng = rng_of(7, rounds, int(earlier), piece)
    found = np.zeros(2)
    for _ in range(count):
        noise = np.exp(rng.uniform(math.log(0.02), math.log(0.10), SUITE)) * math.sqrt(2)  # of a difference
        block_s = 2 * np.exp(rng.uniform(math.log(0.1), math.log(5.0), SUITE))
        seconds = rounds * float(block_s.sum())
        tried = np.clip((TRIED_SHARE * seconds / SUITE / block_s).astype(int), 2, 40)
        seen = [rng.normal(0, spread, n + (EARLIER if earlier else 0)) for spread, n in zip(noise, tried, strict=True)]
        shares = shared_blocks(steadied(seen), block_s, LEAST, seconds - float(tried @ block_s), 100_000)
        assert shares
        ratio = _worst(rng, noise, shares.blocks) / _worst(rng, noise, [rounds] * SUITE)
        found += math.log(ratio), ratio < 1
    return found.tolist()


def _worst(rng: np.random.Generator, noise: Floats, blocks: Sequence[int]) -> float:
    """Return half the width of the widest interval at 95 %."""
    widths = []
    for spread, n in zip(noise.tolist(), blocks, strict=True):
        row = rng.normal(0, spread, (1, n))
        low, high = interval(walsh_contrasts(row, row), np.array([0.05]))
        widths.append(float(high[0] - low[0]) / 2)
    return max(widths)


def budget(pool: Executor, sizes: Sizes) -> list[str]:
    """Return by how much the worst precision of a suite is better with a time shared out than with equal blocks."""
    lines = [
        "| time for equal blocks | from trial blocks alone | narrower in | with an earlier record | narrower in |",
        "| --- | --- | --- | --- | --- |",
    ]
    suites = sizes.studies // 10
    for rounds in (40, 120, 400):
        cells = []
        for earlier in (False, True):
            found = in_pieces(pool, partial(_budget, rounds, earlier), suites) / suites
            cells += [f"{100 * (1 - math.exp(found[0])):.0f} % better", f"{100 * found[1]:.0f} %"]
        lines.append(f"| {rounds} | " + " | ".join(cells) + " |")
    return lines


def main(words: Sequence[str] | None = None) -> None:
    """Measure, and write both files."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--to", type=Path, default=ROOT / "docs")
    asked = parser.parse_args(words)
    begun, sizes = time.monotonic(), QUICK if asked.quick else FULL
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        alarms, on_real = false_alarms(pool, sizes)
        told = {
            "alarms": alarms, "suites": suites(pool, sizes), "power": power(pool, sizes),
            "distance": distance(pool, sizes), "coverage": coverage(pool, sizes), "foretold": foretold(pool, sizes),
            "budget": budget(pool, sizes), "wholes": wholes(pool, sizes.of), "ceilings": ceilings(pool, sizes.of),
        }  # fmt: skip
    minutes = (time.monotonic() - begun) / 60
    how = f"{'quick form' if asked.quick else 'full form'}, {minutes:.0f} minutes"
    text = TEXT.format(
        stretches=len(real_noise()), seed=SEED, took=how, **{name: "\n".join(lines) for name, lines in told.items()}
    )
    (asked.to / "validation.md").write_text(text, encoding="utf-8")
    (asked.to / "validation.svg").write_text(picture(on_real), encoding="utf-8")


if __name__ == "__main__":
    main()
