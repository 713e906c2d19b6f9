"""Readings from CSV, in long form: one row per reading, columns in any order.

`workload,arm,block,order,measure,value,unit`, and optionally `status,sample,start,machine`. Rows of one
trial share workload, arm and block; rows with the same measure in one trial are its samples. Where block
is empty the trials are unpaired: rows with the same order are one trial, and rows without an order are
trials of their own.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import MEASURES, Measure, Status, TrialArray, measure_named
from bystander.errors import DataError
from bystander.exchange.readings.csv_table import CsvTable
from bystander.units import SIZE_UNITS, TIME_UNITS

__all__ = ["COLUMNS", "USUAL_REFERENCES", "Imported", "read_readings_csv"]

_REQUIRED = ("workload", "arm", "measure", "value", "unit")
COLUMNS = (*_REQUIRED[:2], "block", "order", *_REQUIRED[2:], "status", "sample", "start", "machine")
_STATUSES = {status.text: int(status) for status in Status} | {"": 0, "failed": int(Status.EXIT)}
USUAL_REFERENCES = ("before", "base", "reference", "old")
Floats = NDArray[np.float64]
Whole = NDArray[np.int64]


@dataclass(frozen=True)
class Imported:
    """What a CSV file holds, with the reference arm first.

    Attributes
    ----------
    blocks : int
        The most blocks that a workload has.
    started_wall_s : float or None
        When its first trial started.
    notes : tuple of str
        What was ignored, and why.
    """

    workloads: tuple[str, ...]
    arms: tuple[str, ...]
    measures: tuple[Measure, ...]
    arrays: tuple[TrialArray, ...]
    blocks: int
    machines: tuple[str, ...]
    started_wall_s: float | None
    notes: tuple[str, ...]


@dataclass(frozen=True)
class _Rows:
    """Rows of the file as arrays of one length; names are numbers by now."""

    workload: Whole
    arm: Whole
    block: Whole
    order: Whole
    measure: Whole
    value: Floats
    status: Whole
    start: Floats
    machine: Whole

    def take(self, rows: Whole) -> _Rows:
        return _Rows(*(getattr(self, name)[rows] for name in self.__dataclass_fields__))


def read_readings_csv(data: bytes, file: str, reference: str | None = None) -> Imported:
    """Return what a CSV file holds.

    Parameters
    ----------
    file : str
        The name by which messages call it.
    reference : str, optional
        The reference arm; by default the one named before, base, reference or old.

    Raises
    ------
    DataError
        With the line, column and value of the first fault.
    """
    table = CsvTable(data, file, _REQUIRED, COLUMNS)
    workload, workloads = table.names("workload")
    arm, arms = table.names("arm")
    measure, measure_names = table.names("measure")
    values, status = _values(table)
    factors, measures = _measures(table, measure, measure_names)
    values = values * factors
    if (beyond := np.flatnonzero(np.isinf(values))).size:
        raise table.fail(int(beyond[0]), "value", "it is too large")
    arm, arms = _reference_first(arm, arms, reference, file)
    machine, machines = table.names("machine", empty=True)
    start = table.times("start")
    rows = _Rows(
        workload, arm, _blocks(table, machine), table.whole_numbers("order"), measure, values, status, start, machine
    )
    arrays, notes = [], []
    blocks = 0
    by_workload = np.argsort(workload, kind="stable")
    bounds = np.searchsorted(workload[by_workload], np.arange(len(workloads) + 1))
    for w, name in enumerate(workloads):
        mine = rows.take(by_workload[bounds[w] : bounds[w + 1]])
        paired = bool((mine.block >= 0).all())
        if not paired and (mine.block >= 0).any():
            notes.append(f"{name}: some rows have no block, so none of its trials are paired.")
        arrays += _trials(w, mine, measures, paired)
        if paired:
            blocks = max(blocks, int(np.unique(mine.block).size))
    if table.ignored:
        notes.append(f"Columns that are not known were ignored: {', '.join(table.ignored)}.")
    first = float(np.nanmin(start)) if np.isfinite(start).any() else None
    return Imported(
        workloads, arms, measures, tuple(arrays), blocks, tuple(name for name in machines if name), first, tuple(notes)
    )


def _values(table: CsvTable) -> tuple[Floats, Whole]:
    """Return values and statuses; a value of NaN is a failed trial, an empty one needs a status that says so."""
    codes, words = table.names("status", empty=True)
    lowered = [word.lower() for word in words]
    for code, word in enumerate(lowered):
        if word not in _STATUSES:
            known = ", ".join(known for known in _STATUSES if known)
            raise table.fail(
                int(np.argmax(codes == code)), "status", f'"{words[code]}" is not known; write one of {known}'
            )
    status = np.array([_STATUSES[word] for word in lowered], dtype=np.int64)[codes]
    values, empty = table.numbers("value")
    bare = np.flatnonzero(empty & (status == 0))
    if bare.size:
        raise table.fail(int(bare[0]), "value", "it is empty; write a number, or a status such as cut or exit")
    return values, np.where(np.isnan(values) & (status == 0), int(Status.INVALID), status)


def _measures(table: CsvTable, measure: Whole, names: Sequence[str]) -> tuple[Floats, tuple[Measure, ...]]:
    """Return each row's factor to SI units, and the measures; a measure keeps to one kind of unit."""
    codes, units = table.names("unit", empty=True)
    kinds = [_unit(unit) for unit in units]
    pairs, first = np.unique(measure * len(units) + codes, return_index=True)
    found: dict[int, str] = {}
    for pair, at in sorted(zip(pairs.tolist(), first.tolist(), strict=True), key=lambda item: item[1]):
        m, unit = divmod(pair, len(units))
        kind = kinds[unit][0]
        wanted = MEASURES[names[m]].unit if names[m] in MEASURES else found.setdefault(m, kind)
        if kind != wanted:
            right = {"s": "s or ms", "B": "B or MiB", "": "nothing"}.get(wanted, wanted)
            raise table.fail(at, "unit", f'"{units[unit] or "nothing"}" is no unit of {names[m]}; write {right}')
        found[m] = wanted
    factors = np.array([factor for _, factor in kinds])[codes]
    return factors, tuple(measure_named(name, found[m]) for m, name in enumerate(names))


def _unit(text: str) -> tuple[str, float]:
    if text in TIME_UNITS:
        return "s", TIME_UNITS[text]
    if text in SIZE_UNITS:
        return "B", float(SIZE_UNITS[text])
    return ("", 1.0) if text in ("", "1", "count") else (text, 1.0)


def _reference_first(
    arm: Whole, arms: tuple[str, ...], reference: str | None, file: str
) -> tuple[Whole, tuple[str, ...]]:
    if reference is None:
        known = [name for name in arms if name.lower() in USUAL_REFERENCES]
        if len(known) != 1 and len(arms) > 1:
            raise DataError(f"{file}: which arm is the reference? say --reference ARM, one of {', '.join(arms)}")
        reference = known[0] if known else arms[0]
    elif reference not in arms:
        raise DataError(f'{file}: there is no arm "{reference}" for --reference; it has {", ".join(arms)}')
    ordered = (reference, *(name for name in arms if name != reference))
    return np.array([ordered.index(name) for name in arms])[arm], ordered


def _blocks(table: CsvTable, machine: Whole) -> Whole:
    """Return block numbers, -1 where empty; blocks of the same name on two machines are two blocks."""
    block = table.numbers_or_names("block")
    if machine.max() > 0 and (block >= 0).any():
        block = np.where(block >= 0, block + machine * (int(block.max()) + 1), -1)
    return block


def _trials(workload: int, rows: _Rows, measures: Sequence[Measure], paired: bool) -> list[TrialArray]:
    """Put the rows of one workload together to trials, one array per arm.

    Several values of one measure in a trial are its samples, and their median is its reading.
    """
    found = []
    for arm in np.unique(rows.arm).tolist():
        mine = rows.take(np.flatnonzero(rows.arm == arm))
        keys = mine.block if paired else _unpaired_keys(mine)
        distinct, first, trial = np.unique(keys, return_index=True, return_inverse=True)
        readings, samples = _readings(trial, mine, distinct.size, len(measures))
        status = np.zeros(distinct.size, dtype=np.int64)
        np.maximum.at(status, trial, mine.status)
        found.append(
            TrialArray(
                workload=workload,
                arm=arm,
                block=distinct if paired else np.full(distinct.size, -1),
                order=mine.order[first],
                status=status,
                detail=np.zeros_like(status),
                limit_s=_limits(status, readings, measures),
                started_s=mine.start[first],
                readings=readings,
                machine=mine.machine[first],
                samples=samples,
            )
        )
    return found


def _unpaired_keys(rows: _Rows) -> Whole:
    """Return equal numbers for rows of one trial: by order where it is given, else every row by itself.

    Measures share a trial by their order only; without one they cannot be matched.
    """
    own = np.arange(rows.order.size) + int(rows.order.max()) + 1
    return np.where(rows.order >= 0, rows.order, own)


def _readings(trial: Whole, rows: _Rows, trials: int, measures: int) -> tuple[Floats, list[tuple[int, int, Floats]]]:
    """Return readings, shape (trials, measures), and the samples of those that have several."""
    readings = np.full((trials, measures), np.nan)
    samples: list[tuple[int, int, Floats]] = []
    cell = trial * measures + rows.measure
    order = np.argsort(cell, kind="stable")
    cells, starts, counts = np.unique(cell[order], return_index=True, return_counts=True)
    single = counts == 1
    readings.ravel()[cells[single]] = rows.value[order[starts[single]]]
    for c, s, n in zip(cells[~single].tolist(), starts[~single].tolist(), counts[~single].tolist(), strict=True):
        values = rows.value[order[s : s + n]]
        readings.ravel()[c] = np.median(values)
        samples.append((c // measures, c % measures, values))
    return readings, samples


def _limits(status: Whole, readings: Floats, measures: Sequence[Measure]) -> Floats:
    """Return where cut trials were cut: what was read as their elapsed time."""
    elapsed = next((j for j, measure in enumerate(measures) if measure.name == "elapsed"), None)
    if elapsed is None:
        return np.full(status.size, math.nan)
    return np.where(status == Status.CUT, readings[:, elapsed], math.nan)
