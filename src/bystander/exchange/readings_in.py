"""Readings as CSV, in long form: one row per reading, columns in any order.

`workload,arm,block,order,measure,value,unit`, and optionally `status,sample,start,machine`. Rows of one
trial share workload, arm and block; rows with the same measure in one trial are its samples. Where block
is empty the trials are unpaired: rows with the same order are one trial, and rows without an order are
trials of their own.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bystander.design import MEASURES, ArrayRows, Measure, Status, TrialRows, measure_named
from bystander.errors import DataError
from bystander.units import SIZE_UNITS, TIME_UNITS

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["COLUMNS", "Imported", "read_readings_csv"]

_REQUIRED = ("workload", "arm", "measure", "value", "unit")
_OPTIONAL = ("block", "order", "status", "sample", "start", "machine")
_STATUSES = {status.text: int(status) for status in Status} | {"": 0, "failed": int(Status.EXIT)}
COLUMNS = ("workload", "arm", "block", "order", "measure", "value", "unit", "status", "sample", "start", "machine")


@dataclass(frozen=True)
class Imported:
    """What a CSV file holds, with the reference arm first.

    Attributes
    ----------
    rows, arrays
        Trials in blocks, and trials in none.
    blocks : int
        The most blocks that a workload has.
    notes : tuple of str
        What was ignored, and why.
    """

    workloads: tuple[str, ...]
    arms: tuple[str, ...]
    measures: tuple[Measure, ...]
    rows: tuple[TrialRows, ...]
    arrays: tuple[ArrayRows, ...]
    blocks: int
    machines: tuple[str, ...]
    started_wall_s: float | None
    notes: tuple[str, ...]


class _Table:
    """The columns of a CSV file, checked one after another; raises DataError with the line of the first fault."""

    def __init__(self, text: str, file: str) -> None:
        import pandas as pd

        self.file = file
        if not text.strip():
            raise DataError(f"{file}: it is empty; its first line must name the columns {','.join(_REQUIRED)}")
        try:
            self.frame: pd.DataFrame = pd.read_csv(
                io.StringIO(text), dtype=str, keep_default_na=False, na_values=[], skipinitialspace=True,
            )  # fmt: skip
        except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError) as error:
            raise DataError(f"{file}: it is no CSV table: {_reason(error)}") from None
        if not isinstance(self.frame.index, pd.RangeIndex):  # pandas took surplus cells for row labels
            raise DataError(f"{file}: it is no CSV table: its rows have more cells than its first line")
        names = next(csv.reader([text.lstrip("\ufeff").splitlines()[0]], skipinitialspace=True))
        if len({name.strip() for name in names}) < len(names):
            raise DataError(f"{file}: a column stands twice; each may be given once")
        self.frame.columns = [str(name).strip().lstrip("\ufeff") for name in self.frame.columns]
        missing = [name for name in _REQUIRED if name not in self.frame.columns]
        if missing:
            raise DataError(
                f"{file}: there is no column {', '.join(missing)}; its first line must name "
                f"{','.join(_REQUIRED)}, and block and order where trials are paired"
            )
        if self.frame.empty:
            raise DataError(f"{file}: it has no row below its first line")

    def text(self, name: str) -> pd.Series[Any]:
        import pandas as pd

        if name not in self.frame.columns:
            return pd.Series([""] * len(self.frame), dtype=str)
        return self.frame[name].fillna("").str.strip()

    def fail(self, at: int, column: str, clause: str) -> DataError:
        return DataError(f"{self.file}: line {at + 2}: {column}: {clause}")

    def codes(self, name: str) -> tuple[NDArray[np.int64], tuple[str, ...]]:
        """Return codes and names of a column of names, none of which may be empty."""
        import pandas as pd

        column = self.text(name)
        codes, names = pd.factorize(column)
        if "" in set(names):
            raise self.fail(int(np.flatnonzero(column == "")[0]), name, "it is empty; every row needs one")
        return codes.astype(np.int64), tuple(str(n) for n in names)

    def numbers(self, name: str, empty: float) -> NDArray[np.float64]:
        """Return a column of numbers; empty cells become `empty`."""
        import pandas as pd

        column = self.text(name)
        values = pd.to_numeric(column.where(column != "", "nan"), errors="coerce").to_numpy(np.float64, copy=True)
        said_nan = column.str.lower().isin(["nan", ""]).to_numpy()
        wrong = np.flatnonzero((np.isnan(values) & ~said_nan) | np.isinf(values))
        if wrong.size:
            raise self.fail(int(wrong[0]), name, f'"{column.iloc[wrong[0]]}" is no number')
        values[(column == "").to_numpy()] = empty
        return np.asarray(values, dtype=np.float64)


def _reason(error: Exception) -> str:
    return str(error).replace("Error tokenizing data. C error: ", "").strip().splitlines()[0]


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
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        raise DataError(f"{file}: it is no UTF-8 text") from None
    if "\0" in text:
        raise DataError(f"{file}: it is no text: it holds zero bytes")
    table = _Table(text, file)
    workload, workloads = table.codes("workload")
    arm, arms = table.codes("arm")
    measure, measure_names = table.codes("measure")
    values, status = _values(table)
    factors, measures = _measures(table, measure, measure_names)
    values *= factors
    arm, arms = _reference_first(arm, arms, reference, file)
    machine, machines = _machines(table)
    block = _blocks(table, machine)
    order = _whole_numbers(table, "order")
    start = _starts(table)
    columns = _Columns(workload, arm, block, order, measure, values, status, start)
    elapsed = next((j for j, m in enumerate(measures) if m.name == "elapsed"), None)
    rows: list[TrialRows] = []
    arrays: list[ArrayRows] = []
    notes: list[str] = []
    most = 0
    by_workload = np.argsort(workload, kind="stable")
    bounds = np.searchsorted(workload[by_workload], np.arange(len(workloads) + 1))
    for w, name in enumerate(workloads):
        mine = columns.take(by_workload[bounds[w] : bounds[w + 1]])
        if (mine.block >= 0).all():
            trials = _paired(w, mine, len(measures), elapsed)
            rows.append(trials)
            most = max(most, int(np.unique(trials.block).size))
        else:
            if (mine.block >= 0).any():
                notes.append(f"{name}: some rows have no block, so none of its trials are paired.")
            arrays += _unpaired(w, mine, len(arms), len(measures))
    ignored = [name for name in table.frame.columns if name not in (*_REQUIRED, *_OPTIONAL)]
    if ignored:
        notes.append(f"Columns that are not known were ignored: {', '.join(ignored)}.")
    first = float(np.nanmin(start)) if np.isfinite(start).any() else None
    return Imported(workloads, arms, measures, tuple(rows), tuple(arrays), most, machines, first, tuple(notes))


@dataclass(frozen=True)
class _Columns:
    """Rows of the file as arrays of one length."""

    workload: NDArray[np.int64]
    arm: NDArray[np.int64]
    block: NDArray[np.int64]
    order: NDArray[np.int64]
    measure: NDArray[np.int64]
    value: NDArray[np.float64]
    status: NDArray[np.int64]
    start: NDArray[np.float64]

    def take(self, rows: NDArray[np.int64]) -> _Columns:
        return _Columns(*(getattr(self, name)[rows] for name in self.__dataclass_fields__))


def _values(table: _Table) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Return values and statuses; a value of NaN is a failed trial, an empty one needs a status that says so."""
    column = table.text("status").str.lower()
    unknown = np.flatnonzero(~column.isin(list(_STATUSES)).to_numpy())
    if unknown.size:
        known = ", ".join(word for word in _STATUSES if word)
        raise table.fail(int(unknown[0]), "status", f'"{column.iloc[unknown[0]]}" is not known; write one of {known}')
    status = column.map(_STATUSES).to_numpy(np.int64, copy=True)
    empty = (table.text("value") == "").to_numpy()
    bare = np.flatnonzero(empty & (status == 0))
    if bare.size:
        raise table.fail(int(bare[0]), "value", "it is empty; write a number, or a status such as cut or exit")
    values = table.numbers("value", math.nan)
    status[np.isnan(values) & (status == 0)] = int(Status.INVALID)
    return values, status


def _measures(
    table: _Table, measure: NDArray[np.int64], names: Sequence[str]
) -> tuple[NDArray[np.float64], tuple[Measure, ...]]:
    """Return each row's factor to SI units, and the measures; a measure keeps to one kind of unit."""
    import pandas as pd

    codes, units = pd.factorize(table.text("unit"))
    kinds = [_unit(str(unit)) for unit in units]
    factors = np.array([factor for _, factor in kinds])[codes]
    measures = []
    for m, name in enumerate(names):
        mine = np.flatnonzero(measure == m)
        found = list(dict.fromkeys(kinds[code][0] for code in pd.unique(codes[mine])))
        wanted = MEASURES[name].unit if name in MEASURES else found[0]
        for kind in found:
            if kind != wanted:
                at = int(mine[np.flatnonzero([kinds[c][0] == kind for c in codes[mine]])[0]])
                shown, right = (
                    table.text("unit").iloc[at] or "nothing",
                    {"s": "s or ms", "B": "B or MiB"}.get(wanted),
                )
                raise table.fail(at, "unit", f'"{shown}" is no unit of {name}; write {right or wanted or "nothing"}')
        measures.append(measure_named(name, wanted))
    return factors, tuple(measures)


def _unit(text: str) -> tuple[str, float]:
    if text in TIME_UNITS:
        return "s", TIME_UNITS[text]
    if text in SIZE_UNITS:
        return "B", float(SIZE_UNITS[text])
    return ("", 1.0) if text in ("", "1", "count") else (text, 1.0)


def _reference_first(
    arm: NDArray[np.int64], arms: tuple[str, ...], reference: str | None, file: str
) -> tuple[NDArray[np.int64], tuple[str, ...]]:
    if reference is None:
        known = [name for name in arms if name.lower() in ("before", "base", "reference", "old")]
        if len(known) != 1 and len(arms) > 1:
            raise DataError(f"{file}: which arm is the reference? say --reference ARM, one of {', '.join(arms)}")
        reference = known[0] if known else arms[0]
    elif reference not in arms:
        raise DataError(f'{file}: there is no arm "{reference}" for --reference; it has {", ".join(arms)}')
    first = arms.index(reference)
    place = np.array([0 if a == first else a + 1 if a < first else a for a in range(len(arms))])
    return place[arm], (reference, *(name for name in arms if name != reference))


def _machines(table: _Table) -> tuple[NDArray[np.int64], tuple[str, ...]]:
    import pandas as pd

    codes, names = pd.factorize(table.text("machine"))
    return codes.astype(np.int64), tuple(str(name) for name in names if name)


def _blocks(table: _Table, machine: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return block numbers, -1 where empty; blocks of the same name on two machines are two blocks."""
    import pandas as pd

    column = table.text("block")
    numbers = pd.to_numeric(column, errors="coerce").to_numpy(np.float64)
    codes = pd.factorize(column)[0].astype(np.int64)
    whole = np.isfinite(numbers) & (numbers == np.floor(numbers)) & (numbers >= 0) & (numbers < 2**31)
    given = (column != "").to_numpy()
    block = np.where(given, np.where(whole, np.nan_to_num(numbers), 0).astype(np.int64), -1)
    if not whole[given].all():  # names instead of numbers
        block = np.where(given, codes, -1)
    if machine.size and machine.max() > 0 and given.any():
        block = np.where(given, block + machine * (int(block.max()) + 1), -1)
    return block


def _whole_numbers(table: _Table, name: str) -> NDArray[np.int64]:
    values = table.numbers(name, -1.0)
    wrong = np.flatnonzero((values != np.floor(values)) | (values < -1) | np.isnan(values))
    if wrong.size:
        raise table.fail(int(wrong[0]), name, f'"{table.text(name).iloc[wrong[0]]}" is no whole number of 0 or more')
    return values.astype(np.int64)


def _starts(table: _Table) -> NDArray[np.float64]:
    """Return start times in seconds since 1970, given as such or by ISO 8601."""
    import pandas as pd

    column = table.text("start")
    if (column == "").all():
        return np.full(len(column), np.nan)
    values = pd.to_numeric(column, errors="coerce").to_numpy(np.float64, copy=True)
    dates = np.flatnonzero(np.isnan(values) & (column != "").to_numpy())
    if dates.size:
        try:
            times = pd.to_datetime(column.iloc[dates], utc=True, format="ISO8601")
        except (ValueError, OverflowError):
            raise table.fail(
                int(dates[0]), "start", f'"{column.iloc[dates[0]]}" is no time; write seconds or ISO 8601'
            ) from None
        values[dates] = (times - pd.Timestamp(0, tz="UTC")).dt.total_seconds().to_numpy()
    return np.asarray(values, dtype=np.float64)


def _paired(workload: int, rows: _Columns, measures: int, elapsed: int | None) -> TrialRows:
    """Put rows together to trials; several values of one measure in a trial are samples, read as their median."""
    arms = int(rows.arm.max()) + 1
    keys, first, trial = np.unique(rows.block * arms + rows.arm, return_index=True, return_inverse=True)
    readings = np.full((keys.size, measures), np.nan)
    samples: list[tuple[int, int, NDArray[np.float64]]] = []
    cell = trial * measures + rows.measure
    order = np.argsort(cell, kind="stable")
    cells, starts, counts = np.unique(cell[order], return_index=True, return_counts=True)
    single = counts == 1
    readings.ravel()[cells[single]] = rows.value[order[starts[single]]]
    for c, s, n in zip(cells[~single].tolist(), starts[~single].tolist(), counts[~single].tolist(), strict=True):
        values = rows.value[order[s : s + n]]
        readings.ravel()[c] = np.median(values)
        samples.append((c // measures, c % measures, values))
    status = np.zeros(keys.size, dtype=np.int64)
    np.maximum.at(status, trial, rows.status)
    limit = np.full(keys.size, np.nan)
    if elapsed is not None:  # what was read when it was cut is where it was cut
        limit = np.where(status == Status.CUT, readings[:, elapsed], np.nan)
    return TrialRows(
        workload, keys // arms, keys % arms, rows.order[first], status, np.zeros_like(status),
        limit, rows.start[first], readings, samples,
    )  # fmt: skip


def _unpaired(workload: int, rows: _Columns, arms: int, measures: int) -> list[ArrayRows]:
    """Return one array per arm and measure; rows that share an order are samples of one trial."""
    import pandas as pd

    found = []
    for arm in range(arms):
        for measure in range(measures):
            mine = np.flatnonzero((rows.arm == arm) & (rows.measure == measure))
            if not mine.size:
                continue
            values, status, order = rows.value[mine], rows.status[mine], rows.order[mine]
            if (order >= 0).all() and np.unique(order).size < order.size:
                grouped = pd.DataFrame({"order": order, "value": values, "status": status}).groupby("order")
                values, status = grouped["value"].median().to_numpy(), grouped["status"].max().to_numpy()
            found.append(ArrayRows(workload, arm, measure, values, status.astype(np.int8)))
    return found
