"""How often Bystander is wrong, and how much it sees: measured through the function that its commands decide with.

usage: python benchmarks/validate.py [--quick] [--to FOLDER]

Writes validation.md and validation.svg, into docs/ by default. Every draw has a seed.
"""

from __future__ import annotations

import argparse
import math
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bystander.design import Arm, ArmState, Record, RecordHead, Study, Trials, Workload, measure_named
from bystander.exchange import read_readings_csv
from bystander.stats import examine, walsh_contrasts
from bystander.verdicts import Row, decide

Floats = NDArray[np.float64]
Noise = Callable[[np.random.Generator, int, int, float], Floats]
ROOT = Path(__file__).parents[1]
REAL = ROOT / "tests" / "data" / "same_code.csv"
SEED = 20261125
CHANGED = ("slower", "faster")


def _normal(rng: np.random.Generator, rows: int, trials: int, cv: float) -> Floats:
    return rng.normal(0, cv, (rows, trials))


def _heavy(rng: np.random.Generator, rows: int, trials: int, cv: float) -> Floats:
    return cv * rng.standard_t(3, (rows, trials)) / math.sqrt(3)


def _skewed(rng: np.random.Generator, rows: int, trials: int, cv: float) -> Floats:
    return cv * rng.lognormal(0, 0.8, (rows, trials))


def _modes(rng: np.random.Generator, rows: int, trials: int, cv: float) -> Floats:
    return rng.normal(0, cv / 2, (rows, trials)) + 3 * cv * (rng.random((rows, trials)) < 0.3)


def _drift(rng: np.random.Generator, rows: int, trials: int, cv: float) -> Floats:
    return np.cumsum(rng.normal(0, cv / 3, (rows, trials)), axis=1) + rng.normal(0, cv / 2, (rows, trials))


def _sticky(rng: np.random.Generator, rows: int, trials: int, cv: float) -> Floats:
    values = rng.normal(0, cv, (rows, trials))
    for i in range(1, trials):
        values[:, i] = 0.8 * values[:, i - 1] + 0.6 * values[:, i]
    return values


def _spikes(rng: np.random.Generator, rows: int, trials: int, cv: float) -> Floats:
    return rng.normal(0, cv, (rows, trials)) + (rng.random((rows, trials)) < 0.05) * rng.exponential(
        6 * cv, (rows, trials)
    )


MODELS: dict[str, Noise] = {
    "normal": _normal, "heavy tails": _heavy, "skewed": _skewed, "two speeds": _modes, "drift": _drift,
    "sticky (0.8 from one to the next)": _sticky, "spikes": _spikes,
}  # fmt: skip


def real_noise() -> Floats:
    """Return logs of real trials of one code in the order in which they ran: 48 stretches of 25 blocks."""
    imported = read_readings_csv(REAL.read_bytes(), REAL.name)
    by_workload: dict[int, list[tuple[int, int, float]]] = {}
    for array in imported.arrays:
        trials = zip(array.block.tolist(), array.order.tolist(), array.readings[:, 0].tolist(), strict=True)
        by_workload.setdefault(array.workload, []).extend(trials)
    stretches = []
    for mine in by_workload.values():
        values = np.log([value for _, _, value in sorted(mine)])
        stretches += [values[i : i + 50] for i in range(0, values.size - 49, 50)]
    return np.stack(stretches)


def shuffled(noise: Floats, rng: np.random.Generator) -> tuple[Floats, Floats, NDArray[np.int64]]:
    """Return both arms' noise when pairs of neighbours are blocks in random order, and the candidate's place."""
    pairs = noise[:, : noise.shape[1] // 2 * 2].reshape(noise.shape[0], -1, 2)
    place = rng.integers(0, 2, pairs.shape[:2])
    candidate = np.take_along_axis(pairs, place[:, :, None], axis=2)[:, :, 0]
    reference = np.take_along_axis(pairs, 1 - place[:, :, None], axis=2)[:, :, 0]
    return reference, candidate, place


def record(reference: Floats, candidate: Floats, place: NDArray[np.int64], margin: float) -> Record:
    """Return a record of log times, one workload a row."""
    workloads, blocks = reference.shape
    shape = (workloads, blocks, 2)
    w, b, a = (axis.ravel() for axis in np.indices(shape))
    order = np.stack([1 - place, place], axis=2).ravel()
    readings = np.exp(np.stack([reference, candidate], axis=2)).reshape(-1, 1)
    n = w.size
    trials = Trials(
        w, a, b, order, np.zeros(n, np.int64), np.full(n, np.nan), readings, np.full(n, -1), np.zeros(n),
        np.zeros(n, np.int64),
    )  # fmt: skip
    study = Study(
        "validation", (Arm("before"), Arm("after")), tuple(Workload(f"w{i}", f"w{i}", "") for i in range(workloads)),
        margin=margin, blocks=blocks, seed=SEED,
    )  # fmt: skip
    states = tuple(ArmState(name, name, "", "") for name in ("before", "after"))
    head = RecordHead(
        "0", "validation", "observed", "complete", 0.0, study, "", states, (), (measure_named("elapsed", "s"),), {}, "",
    )  # fmt: skip
    return Record(head, trials)


def decided(noise: Floats, rng: np.random.Generator, effect: Floats | float = 0.0, margin: float = 0.03) -> list[Row]:
    """Return the rows of a suite, one workload a row of noise, in the order of the workloads."""
    reference, candidate, place = shuffled(noise, rng)
    rows = decide(
        record(reference, candidate + np.broadcast_to(effect, (noise.shape[0],))[:, None], place, margin)
    ).primary
    return sorted(rows, key=lambda row: int(row.workload[1:]))


def share(hits: float, of: int) -> str:
    """Write a share in percent with its standard error."""
    p = hits / of
    return f"{100 * p:.1f} % (± {100 * math.sqrt(max(p * (1 - p), 0.25 / of) / of):.1f})"


# What others do, on the same trials: all of them say "changed" or not.
def shortcuts(noise: Floats, rng: np.random.Generator) -> dict[str, Floats]:
    """Return, for each common way, which rows of unchanged noise it calls changed."""
    n = noise.shape[1] // 2
    first, second = noise[:, :n], noise[:, n : 2 * n]
    reference, candidate, _ = shuffled(noise, rng)
    two = math.log(1.02)
    spread = np.sqrt(first.var(axis=1, ddof=1) / n + second.var(axis=1, ddof=1) / n)
    peeked = np.zeros(noise.shape[0], dtype=bool)
    for blocks in range(6, n + 1):
        difference = (candidate - reference)[:, :blocks]
        peeked |= examine(walsh_contrasts(difference, difference), np.full(noise.shape[0], two)).p < 0.05
    return {
        "one run of each, differ by over 2 %": np.abs(noise[:, 0] - noise[:, 1]) > two,
        "all of one, then all of the other; means differ by over 2 %": np.abs(first.mean(1) - second.mean(1)) > two,
        "the same; best of all differ by over 2 %": np.abs(first.min(axis=1) - second.min(axis=1)) > two,
        "the same; Welch's t beyond 2.02": np.abs(first.mean(axis=1) - second.mean(axis=1)) > 2.02 * spread,
        "shuffled blocks, but a look after every block, stop at p < 0.05": peeked,
    }


def false_alarms(size: int) -> tuple[list[str], dict[str, float]]:
    """Return the table of unchanged programs called changed, and the shares on real trials."""
    rng = np.random.default_rng([SEED, 1])
    sources = {
        **{name: draw(rng, size, 50, 0.05) for name, draw in MODELS.items()},
        "**real trials of one code**": real_noise(),
    }
    columns: dict[str, dict[str, str]] = {}
    on_real: dict[str, float] = {}
    for name, noise in sources.items():
        repeats = 1 if noise.shape[0] >= size else math.ceil(size / noise.shape[0])
        hits: dict[str, float] = {}
        for _ in range(repeats):
            found = {way: float(np.mean(said)) for way, said in shortcuts(noise, rng).items()}
            alone = [decided(row[None], rng)[0].verdict in CHANGED for row in noise]
            found["**Bystander: 25 shuffled blocks, fixed before**"] = float(np.mean(alone))
            hits = {way: hits.get(way, 0.0) + value / repeats for way, value in found.items()}
        columns[name] = {way: f"{100 * value:.1f} %" for way, value in hits.items()}
        on_real = hits
    ways = list(on_real)
    lines = ["| way | " + " | ".join(columns) + " |", "| --- |" + " --- |" * len(columns)]
    lines += [f"| {way} | " + " | ".join(columns[name][way] for name in columns) + " |" for way in ways]
    return lines, on_real


def suites(counts: dict[int, int]) -> list[str]:
    """Return the table of suites: any false row when nothing changed, and false rows among those shown."""
    rng = np.random.default_rng([SEED, 2])
    lines = [
        "| noise | " + " | ".join(f"{size} unchanged: any row shown" for size in counts)
        + " | 20, of which 4 are 10 % slower: false among the shown |", "| --- |" + " --- |" * (len(counts) + 1),
    ]  # fmt: skip
    for name, draw in MODELS.items():
        cells = []
        for size, count in counts.items():
            any_row = sum(
                any(row.verdict in CHANGED for row in decided(draw(rng, size, 40, 0.05), rng)) for _ in range(count)
            )
            cells.append(share(any_row, count))
        effect, shares = np.where(np.arange(20) < 4, math.log(1.1), 0.0), []
        for _ in range(counts[20]):
            shown = [i for i, row in enumerate(decided(draw(rng, 20, 40, 0.05), rng, effect)) if row.verdict in CHANGED]
            shares.append(sum(i >= 4 for i in shown) / max(1, len(shown)))
        cells.append(f"{100 * float(np.mean(shares)):.1f} %")
        lines.append(f"| {name} | " + " | ".join(cells) + " |")
    return lines


def power(size: int) -> list[str]:
    """Return how often a true change is shown, of one workload, by its size, the noise and the blocks."""
    rng = np.random.default_rng([SEED, 3])
    blocks = (10, 20, 40)
    lines = [
        "| change | noise (CV) | " + " | ".join(f"{n} blocks" for n in blocks) + " |",
        "| --- | --- |" + " --- |" * 3,
    ]
    for change in (0.02, 0.05, 0.10):
        for cv in (0.02, 0.05, 0.10):
            cells = []
            for n in blocks:
                noise = _normal(rng, size, 2 * n, cv)
                found = [decided(row[None], rng, math.log1p(change), 0.01)[0].verdict == "slower" for row in noise]
                cells.append(f"{100 * float(np.mean(found)):.0f} %")
            lines.append(f"| {100 * change:.0f} % | {100 * cv:.0f} % | " + " | ".join(cells) + " |")
    return lines


def coverage(size: int) -> list[str]:
    """Return how often the interval holds the true change, and how often "same" is said of an unchanged program."""
    rng = np.random.default_rng([SEED, 4])
    lines = [
        "| noise | true 5 % lies in the 95 % interval | unchanged, CV 2 %: shown to be the same within 3 % |",
        "| --- | --- | --- |",
    ]
    for name, draw in MODELS.items():
        held = [
            row.low <= 1.05 <= row.high
            for noise in draw(rng, size, 40, 0.05)
            if (row := decided(noise[None], rng, math.log(1.05))[0]).verdict != "same"
        ]
        same = sum(decided(noise[None], rng)[0].verdict == "same" for noise in draw(rng, size // 2, 40, 0.02))
        lines.append(f"| {name} | {share(sum(held), len(held))} | {share(same, size // 2)} |")
    return lines


def picture(on_real: dict[str, float]) -> str:
    """Return bars: how often each way calls an unchanged program changed, on real trials."""
    rows, y = [], 64
    for way, value in on_real.items():
        ours = way.startswith("**")
        label = way.strip("*").replace("&", "&amp;").replace("<", "&lt;")
        colour, weight = ("#1f6feb", ' font-weight="bold"') if ours else ("#6b7280", "")
        rows.append(
            f'<text x="470" y="{y + 15}" text-anchor="end"{weight}>{label}</text>'
            f'<rect x="484" y="{y}" width="{max(1.5, 340 * value):.1f}" height="20" fill="{colour}"/>'
            f'<text x="{492 + 340 * value:.1f}" y="{y + 15}"{weight}>{100 * value:.1f} %</text>'
        )
        y += 34
    head = "Nothing changed, yet the program is called changed"
    note = "real trials of one code on a busy machine; at most 5 % would be as promised (the upright line)"
    line = f'<line x1="{484 + 17}" x2="{484 + 17}" y1="56" y2="{y}" stroke="#d9730d" stroke-dasharray="4 3"/>'
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 900 {y + 16}" width="900" font-size="13" '
        f'font-family="Georgia, \'DejaVu Serif\', serif" fill="#1c2430">'
        f'<rect width="900" height="{y + 16}" fill="#ffffff"/>'
        f'<text x="16" y="26" font-size="17" font-weight="bold">{head}</text>'
        f'<text x="16" y="46" fill="#5b6675">{note}</text>{line}{"".join(rows)}</svg>\n'
    )


TEXT = """# Validation

How often is Bystander wrong, how much does it see, and how do you know? Everything below was measured by
`python benchmarks/validate.py` through the function that `bystander decide` decides with, on noise of seven kinds and
on real trials of one code in both arms ({stretches} stretches of 25 blocks of four programs on a busy machine,
`tests/data/same_code.csv`). Seed {seed}; {took}. Behind a share stands its standard error.

## Nothing changed: how often is a program called changed?
![bars](validation.svg)

Noise of CV 5 %, in the order in which trials run; every way sees the same 50 trials.

{alarms}

## Suites
20 blocks, risk 5 %. What is promised is that of the rows shown as changed at most 5 % are false in the long run. When
nothing changed every row shown is false, so that at most 5 % of suites may show any. Of so many cells one or two lie
more than two standard errors off by luck.

{suites}

## What is seen
One workload, normal noise, margin 1 %, risk 5 %: how often the change is shown.

{power}

## Intervals, and "same"
One workload, 20 blocks; noise of CV 5 % in the first column, of 2 % in the second. Rows that are shown to be the same
have an interval of another level, and are left out of the first.

{coverage}
"""


def main() -> None:
    """Measure, and write both files."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--quick", action="store_true")
    parser.add_argument("--to", type=Path, default=ROOT / "docs")
    asked = parser.parse_args()
    begun = time.monotonic()
    size, counts = (60, {1: 60, 20: 12, 200: 2}) if asked.quick else (2000, {1: 2000, 20: 400, 200: 60})
    alarms, on_real = false_alarms(size)
    told = {
        "alarms": alarms, "suites": suites(counts), "power": power(size // 2), "coverage": coverage(size),
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
