"""How often intervals of the whole load and of the geometric mean hold: a part of `validate.py`."""

from __future__ import annotations

import math
from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from noises import MODELS, SEED, Floats, record, shuffled
from validation_text import share

from bystander.design import Record, Status
from bystander.verdicts import Whole, decide

__all__ = ["CELLS", "Cell", "wholes"]

BLOCKS, CV, MARGIN, FAILED = 40, 0.05, 0.03, 0.01


@dataclass(frozen=True)
class Cell:
    """One column of the table: suites of one kind, how many are drawn in the full form, and what is asked of them."""

    head: str
    size: int
    suites: int
    alike: bool = True
    rule: str = "looks"
    failed: float = 0.0
    what: str = "load"


CELLS = (
    Cell("1 workload", 1, 2000), Cell("8", 8, 600), Cell("20", 20, 400), Cell("100", 100, 400),
    Cell("20, changes of -5 to +10 %", 20, 400, alike=False),
    Cell("the same, 1 % of trials failed", 20, 400, alike=False, failed=FAILED),
    Cell("fixed: 1", 1, 2000, rule="fixed"), Cell("fixed: 100", 100, 400, rule="fixed"),
    Cell("fixed: 8, changes of -5 to +10 %", 8, 600, alike=False, rule="fixed"),
    Cell("geometric mean, 100", 100, 400, what="mean"),
    Cell("plain sums, 100", 100, 400, what="sums"),
)  # fmt: skip
_CHANGES = np.log([0.95, 1.0, 1.0, 1.03, 1.1])


def _suite(name: str, cell: Cell, number: int) -> bool:
    """Return whether the interval of a suite holds the truth."""
    # Cells that differ only in what is asked see the same suites.
    rng = np.random.default_rng([SEED, 8, number, cell.size, cell.alike, len(cell.rule), *map(ord, name)])
    effect = np.full(cell.size, math.log(1.06)) if cell.alike else rng.choice(_CHANGES, cell.size)
    reference, candidate, place = shuffled(MODELS[name](rng, cell.size, 2 * BLOCKS, CV), rng)
    drawn = record(reference, candidate + effect[:, None], place, MARGIN, cell.rule)
    weights = np.exp(rng.uniform(0, math.log(20), cell.size))
    decision = decide(_failing(_weighted(drawn, weights), cell.failed, rng))
    (load,) = decision.loads
    effects = {f"w{i}": float(e) for i, e in enumerate(effect)}
    if cell.what == "mean":
        (mean,) = decision.means
        return _holds(mean, math.exp(sum(effects[name] for name in mean.workloads) / len(mean.workloads)))
    truth = sum(part.share * math.exp(effects[part.workload]) for part in load.parts)
    if cell.what == "sums":
        return load.sums is not None and load.sums.sums.low <= truth <= load.sums.sums.high
    return _holds(load, truth)


def _holds(whole: Whole, truth: float) -> bool:
    return whole.low <= truth <= whole.high


def _weighted(drawn: Record, weights: Floats) -> Record:
    study = drawn.head.study
    pairs = zip(study.workloads, weights.tolist(), strict=True)
    workloads = tuple(replace(workload, weight=weight) for workload, weight in pairs)
    return replace(drawn, head=replace(drawn.head, study=replace(study, workloads=workloads)))


def _failing(drawn: Record, failed: float, rng: np.random.Generator) -> Record:
    status = drawn.trials.status.copy()
    status[rng.random(status.size) < failed] = int(Status.EXIT)
    return replace(drawn, trials=replace(drawn.trials, status=status))


def wholes(pool: Executor, part: Callable[[int], int]) -> list[str]:
    """Return the table: how often intervals at 95 % hold; `part` says how many of so many suites are drawn."""
    lines = ["| noise | " + " | ".join(cell.head for cell in CELLS) + " |", "| --- |" + " --- |" * len(CELLS)]
    for name in MODELS:
        cells = []
        for cell in CELLS:
            suites = part(cell.suites)
            held = sum(pool.map(partial(_suite, name, cell), range(suites), chunksize=10))
            cells.append(share(held, suites))
        lines.append(f"| {name} | " + " | ".join(cells) + " |")
    return lines
