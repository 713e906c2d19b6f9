"""What share of what people are shown is false, over many records: `make validate` writes docs/validation-shown.md.

Within a record the risk is held; over a stream of records most of which changed nothing, the share of false ones among
all that is shown is another figure. Both are told, and what a second record of the same pair does about it.
"""

from __future__ import annotations

import math
import sys
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from pathlib import Path

import numpy as np
from noises import MODELS, SEED, Floats, decided, real_noise
from validate_chains import in_blocks, made

from bystander.design import Chain, ChainKind, Comparison, Link
from bystander.verdicts import Row, ladder

ROOT = Path(__file__).parents[1]
FILE = ROOT / "docs" / "validation-shown.md"
EFFECTS = (0.8, 1.2, 2.0)  # of the standard deviation of block differences
SHARES = (0.05, 0.10, 0.30)
CV = 0.03


def _stretches(kind: str, rng: np.random.Generator, count: int) -> Iterator[tuple[Floats, float]]:
    """Yield noise of one study after another, and the standard deviation of its block differences."""
    if kind == "real":
        pool = real_noise()
        for _ in range(count):
            row = pool[rng.integers(len(pool))]
            pairs = row[: row.size // 2 * 2].reshape(-1, 2)
            yield row[None], float(np.std(pairs[:, 0] - pairs[:, 1]))
        return
    for _ in range(count):
        yield MODELS[kind](rng, 1, 80, CV), CV * math.sqrt(2)


def _way(row: Row) -> int:
    return 0 if not row.changed else 1 if row.estimate > 1 else -1


def _edits(kind: str, effect: float, piece: int, count: int) -> tuple[int, int, int, int]:
    """Return how many edits are shown truly and falsely in one record, and in two records the same way."""
    rng = np.random.default_rng([SEED, 41, piece, int(10 * effect), *map(ord, kind)])
    right = wrong = right_twice = wrong_twice = 0
    stretches = _stretches(kind, rng, 2 * count)
    for both in zip(stretches, stretches, strict=True):  # two records are of two stretches of time
        ways = [_way(decided(noise, rng, effect * sd, margin=0.03)[0]) for noise, sd in both]
        true = effect > 0 and ways[0] > 0
        right, wrong = right + true, wrong + bool(ways[0] and not true)
        if ways[0] and ways[0] == ways[1]:
            right_twice, wrong_twice = right_twice + true, wrong_twice + (not true)
    return right, wrong, right_twice, wrong_twice


def _suites(changed: int, piece: int, count: int) -> tuple[int, int, float]:
    """Return rows shown truly and falsely in records of 12 rows, and the mean false share of a record."""
    rng = np.random.default_rng([SEED, 42, piece, changed])
    right = wrong = 0
    shares = 0.0
    for _ in range(count):
        effect = np.zeros(12)
        effect[:changed] = 1.2 * CV * math.sqrt(2)
        rows = decided(MODELS["normal"](rng, 12, 80, CV), rng, effect)
        true = sum(_way(row) > 0 for row in rows[:changed])
        false = sum(bool(_way(row)) for row in rows) - true
        right, wrong, shares = right + true, wrong + false, shares + false / max(1, true + false)
    return right, wrong, shares


def _chains(gains: int, piece: int, count: int) -> tuple[int, int, float]:
    """Return links shown truly and falsely in chains of 12, and the mean false share of a chain."""
    names = [f"s{i}" for i in range(13)]
    links = tuple(Link(after, before) for before, after in pairwise(names))
    compared = [*(Comparison(i - 1, i) for i in range(1, 13)), Comparison(0, 12)]
    rng = np.random.default_rng([SEED, 43, piece, gains])
    right = wrong = 0
    shares = 0.0
    for _ in range(count):
        steps = np.zeros(12)
        steps[rng.choice(12, gains, replace=False)] = math.log(0.98)
        true = np.concatenate([[0.0], np.cumsum(steps)])
        logs = true[:, None] + in_blocks("normal", rng, 13, 30)
        told = ladder(made(names, logs, Chain(ChainKind.LINKS, links), compared))
        ways = np.array([_way(rung.rows[0]) for rung in told.rungs])
        good = int(((ways < 0) & (steps < 0)).sum())
        bad = int((ways != 0).sum()) - good
        right, wrong, shares = right + good, wrong + bad, shares + bad / max(1, good + bad)
    return right, wrong, shares


def _percent(part: float, whole: float) -> str:
    return f"{100 * part / whole:.1f} %" if whole else "none"


def table(edits: int, suites: int, chains: int) -> Iterator[str]:
    """Yield the lines of the page."""
    with ProcessPoolExecutor(2) as pool:
        jobs = {
            (kind, effect): [pool.submit(_edits, kind, effect, piece, edits // 10) for piece in range(10)]
            for kind in ("normal", "real") for effect in (0.0, *EFFECTS)
        }  # fmt: skip
        of_suites = {n: [pool.submit(_suites, n, piece, suites // 10) for piece in range(10)] for n in (0, 1)}
        of_chains = {n: [pool.submit(_chains, n, piece, chains // 10) for piece in range(10)] for n in (0, 2)}
        found = {key: np.sum([one.result() for one in mine], axis=0) for key, mine in jobs.items()}
        rows = {n: np.sum([one.result() for one in mine], axis=0) for n, mine in of_suites.items()}
        links = {n: np.sum([one.result() for one in mine], axis=0) for n, mine in of_chains.items()}
    yield _row("record", "nothing changed: anything is shown", "nine of ten edits idle: mean false share of a record",
               "nine of ten idle: false among all that is shown")  # fmt: skip
    yield _row(*["---"] * 4)
    idle, true = found["normal", 0.0] / edits, found["normal", 1.2] / edits
    yield _line("one row, an edit of 1.2 sd", idle[1], 0.9 * idle[1] + 0.1 * true[1], idle[:2], true[:2])
    for name, one, times in (("12 rows, an edit changes one by 1.2 sd", rows, suites),
                             ("a chain of 12, two gains of 2 % (CV 3 %, 30 blocks)", links, chains)):  # fmt: skip
        idle, true = one[0] / times, one[max(one)] / times
        yield _line(name, idle[2], 0.9 * idle[2] + 0.1 * true[2], idle[:2], true[:2])
    yield ""
    yield _row("noise", "edits that change something", "size", "found once", "shown once: false among them",
               "found twice", "shown twice: false among them")  # fmt: skip
    yield _row(*["---"] * 7)
    for kind in ("normal", "real"):
        for share in SHARES:
            for effect in EFFECTS:
                idle, true = found[kind, 0.0] / edits, found[kind, effect] / edits
                cells = []
                for right, wrong in ((0, 1), (2, 3)):
                    false = (1 - share) * idle[wrong] + share * true[wrong]
                    cells += [_percent(true[right], 1), _percent(false, false + share * true[right])]
                yield f"| {kind} | {100 * share:.0f} % | {effect} sd | {' | '.join(cells)} |"


def _row(*cells: str) -> str:
    return f"| {' | '.join(cells)} |"


def _line(name: str, idle_share: float, mean: float, idle: Floats, true: Floats) -> str:
    false = 0.9 * idle[1] + 0.1 * true[1]
    pooled = _percent(false, false + 0.1 * true[0])
    return f"| {name} | {_percent(idle_share, 1)} | {_percent(mean, 1)} | {pooled} |"


HEAD = """\
# What is shown once, and what is shown twice

Made by `make validate` (benchmarks/validate_shown.py) with the functions that decide records: {edits} edits a cell,
{suites} records of 12 rows, {chains} chains; the default looks and a risk of 5 %, seed {seed}. Real noise is that of
one code on a busy machine, 25 blocks; the other 40.

What the risk promises is the second column: if nothing had changed, something would be shown in at most 5 % of such
records; and with it the third, the mean false share of a record, where one that shows nothing counts 0. The last column
is what somebody sees who counts everything that was ever shown, while nine of ten edits do nothing. It is no fault of
the method: few records have anything true to show. So `decide` says from ten tried pairs on how many were shown, and
how to confirm one.

"""


def main() -> None:
    """Write the page, or with "quick" print it from few."""
    quick = "quick" in sys.argv[1:]
    sizes = (200, 40, 20) if quick else (2500, 600, 240)
    text = HEAD.format(edits=sizes[0], suites=sizes[1], chains=sizes[2], seed=SEED) + "\n".join(table(*sizes)) + "\n"
    if quick:
        print(text)
    else:
        FILE.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
