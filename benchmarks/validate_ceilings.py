"""How often ceilings are called held or broken wrongly, and what dependence does: a part of `validate.py`."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from noises import SEED, Floats, real_trials, record
from validation_text import share

from bystander.design import Ceiling
from bystander.verdicts import CeilingRow, decide

__all__ = ["ceilings"]

LIMIT = 1.0
REAL = "**real trials of one code**, at the limit"


@dataclass(frozen=True)
class _Cell:
    """Trials of which a share is beyond, held to a ceiling."""

    head: str
    beyond: float  # of all trials
    asked: float  # that must stay within it
    trials: int
    rule: str
    alike: int = 1  # ceilings of the study that are all like this one


CELLS = (
    _Cell("95 %, at the limit, 140 trials, looks", 0.05, 0.95, 140, "looks"),
    _Cell("95 %, at the limit, 140 trials, fixed", 0.05, 0.95, 140, "fixed"),
    _Cell("90 %, at the limit, 60 trials, looks", 0.10, 0.90, 60, "looks"),
    _Cell("99 %, at the limit, 700 trials, looks", 0.01, 0.99, 700, "looks"),
    _Cell("95 %, at the limit, 250 trials, looks, one of 5 ceilings", 0.05, 0.95, 250, "looks", 5),
    _Cell("95 %, none beyond, 140 trials, looks", 0.0, 0.95, 140, "looks"),
    _Cell("95 %, 1 % beyond, 250 trials, looks", 0.01, 0.95, 250, "looks"),
    _Cell("95 %, 15 % beyond, 140 trials, looks", 0.15, 0.95, 140, "looks"),
)


def _decided(values: Floats, asked: float, rule: str) -> list[CeilingRow]:
    """Return what is said of times of one arm, a workload a row."""
    drawn = record(np.log(values), np.log(values), np.zeros(values.shape, dtype=np.int64), 0.03, rule)
    one = drawn.trials.arm == 0
    study = drawn.head.study
    workloads = tuple(replace(w, ceilings=(Ceiling("elapsed", LIMIT, asked),)) for w in study.workloads)
    study = replace(study, arms=study.arms[:1], workloads=workloads)
    trials = replace(
        drawn.trials,
        **{
            name: getattr(drawn.trials, name)[one]
            for name in drawn.trials.__dataclass_fields__
            if _of_trials(drawn.trials, name)
        },
    )
    head = replace(drawn.head, study=study, arms=drawn.head.arms[:1])
    return list(decide(replace(drawn, head=head, trials=trials)).ceilings)


def _of_trials(trials: object, name: str) -> bool:
    return isinstance(getattr(trials, name), np.ndarray)


def _study(cell: _Cell, number: int) -> tuple[float, float, float, float]:
    """Return shares of held, of broken, and of dependent ones, and the trials used."""
    rng = np.random.default_rng([SEED, 9, number, cell.trials, cell.alike, len(cell.rule), round(1e4 * cell.beyond)])
    beyond = rng.random((cell.alike, cell.trials)) < cell.beyond
    values = LIMIT * np.exp(np.where(beyond, 1, -1) * rng.exponential(0.1, beyond.shape))
    return _counted(_decided(values, cell.asked, cell.rule))


def _counted(rows: list[CeilingRow]) -> tuple[float, float, float, float]:
    # Of several alike a study is wrong when one of them is.
    held, broken = (float(any(row.verdict == word for row in rows)) for word in ("holds", "broken"))
    return held, broken, float(np.mean([row.dependent for row in rows])), float(np.mean([row.trials for row in rows]))


def _real(asked: float, trials: int, number: int) -> tuple[float, float, float, float]:
    """Return the same of a stretch of real trials whose true share beyond is that of all trials of the program."""
    stretches = real_trials()
    whole = stretches[number % len(stretches)]
    rng = np.random.default_rng([SEED, 10, number, trials])
    start = int(rng.integers(0, whole.size - trials + 1))
    limit = float(np.quantile(whole, asked))
    return _counted(_decided((whole[start : start + trials] / limit)[None], asked, "fixed"))


def ceilings(pool: Executor, part: Callable[[int], int]) -> list[str]:
    """Return the table; `part` says how many of so many studies are drawn."""
    lines = ["| trials | called held | called broken | trials used | found dependent |", "| --- |" + " --- |" * 4]
    for cell in CELLS:
        studies = part(2000 if cell.alike == 1 else 600)
        found = np.array(list(pool.map(partial(_study, cell), range(studies), chunksize=20)))
        lines.append(_line(cell.head, found))
    for asked, trials in ((0.95, 60), (0.95, 100), (0.95, 200)):
        found = np.array(list(pool.map(partial(_real, asked, trials), range(part(1000)), chunksize=20)))
        lines.append(_line(f"{REAL}, {trials} back to back", found))
    return lines


def _line(head: str, found: Floats) -> str:
    held, broken, dependent, used = found.mean(axis=0).tolist()
    n = len(found)
    return f"| {head} | {share(held * n, n)} | {share(broken * n, n)} | {used:.0f} | {100 * dependent:.1f} % |"
