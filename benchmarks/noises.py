"""Noise of seven kinds and real trials of one code, as records that are decided as any other."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bystander.design import (
    Arm,
    ArmState,
    Command,
    Origin,
    Record,
    RecordHead,
    State,
    StoppingRule,
    Study,
    Trials,
    Workload,
    measure_named,
)
from bystander.exchange import read_readings_csv
from bystander.verdicts import Row, decide

Floats = NDArray[np.float64]
Noise = Callable[[np.random.Generator, int, int, float], Floats]
ROOT = Path(__file__).parents[1]
REAL = ROOT / "tests" / "data" / "same_code.csv"
SEED = 20261125


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
    whole = [np.log(values) for values in real_trials()]
    return np.stack([values[i : i + 50] for values in whole for i in range(0, values.size - 49, 50)])


@cache
def real_trials() -> tuple[Floats, ...]:
    """Return times of real trials of one code in the order in which they ran, an array for each of four programs."""
    imported = read_readings_csv(REAL.read_bytes(), REAL.name)
    by_workload: dict[int, list[tuple[int, int, float]]] = {}
    for array in imported.arrays:
        trials = zip(array.block.tolist(), array.order.tolist(), array.readings[:, 0].tolist(), strict=True)
        by_workload.setdefault(array.workload, []).extend(trials)
    return tuple(np.array([value for _, _, value in sorted(mine)]) for mine in by_workload.values())


def shuffled(noise: Floats, rng: np.random.Generator) -> tuple[Floats, Floats, NDArray[np.int64]]:
    """Return both arms' noise when pairs of neighbours are blocks in random order, and the candidate's place."""
    pairs = noise[:, : noise.shape[1] // 2 * 2].reshape(noise.shape[0], -1, 2)
    place = rng.integers(0, 2, pairs.shape[:2])
    candidate = np.take_along_axis(pairs, place[:, :, None], axis=2)[:, :, 0]
    reference = np.take_along_axis(pairs, 1 - place[:, :, None], axis=2)[:, :, 0]
    return reference, candidate, place


def record(
    reference: Floats, candidate: Floats, place: NDArray[np.int64], margin: float, stopping: str = "looks"
) -> Record:
    """Return a record of log times, one workload a row, of as many blocks as it may have at most."""
    workloads, blocks = reference.shape
    shape = (workloads, blocks, 2)
    w, b, a = (axis.ravel() for axis in np.indices(shape))
    order = np.stack([1 - place, place], axis=2).ravel()
    readings = np.exp(np.stack([reference, candidate], axis=2)).reshape(-1, 1)
    n = w.size
    trials = Trials(
        w, a, b, order, np.zeros(n, np.int64), np.full(n, np.nan), readings, np.full(n, -1), np.zeros(n),
        np.zeros(n, np.int64), np.zeros(n, np.int64),
    )  # fmt: skip
    study = Study(
        "validation", (Arm("before"), Arm("after")),
        tuple(Workload(f"w{i}", f"w{i}", Command("")) for i in range(workloads)),
        margin=margin, blocks=blocks, seed=SEED, stopping=StoppingRule(stopping),
    )  # fmt: skip
    states = tuple(ArmState(name, name, "", "") for name in ("before", "after"))
    told = (measure_named("elapsed", "s"),)
    head = RecordHead("0", "validation", Origin.OBSERVED, State.COMPLETE, 0.0, study, "", states, (), told, (), "")
    return Record(head, trials)


def decided(
    noise: Floats,
    rng: np.random.Generator,
    effect: Floats | float = 0.0,
    margin: float = 0.03,
    stopping: str = "looks",
) -> list[Row]:
    """Return the rows of a suite, one workload a row of noise, in the order of the workloads."""
    reference, candidate, place = shuffled(noise, rng)
    changed = candidate + np.broadcast_to(effect, (noise.shape[0],))[:, None]
    rows = decide(record(reference, changed, place, margin, stopping)).primary
    return sorted(rows, key=lambda row: int(row.workload[1:]))


def alone(
    noise: Floats, rng: np.random.Generator, effect: float = 0.0, margin: float = 0.03, stopping: str = "looks"
) -> list[Row]:
    """Return the row of each workload when it is a study by itself."""
    return [decided(row[None], rng, effect, margin, stopping)[0] for row in noise]
