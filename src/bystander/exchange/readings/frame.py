"""A record's readings as one table: a pandas frame, and as Parquet."""

from __future__ import annotations

import importlib
import io
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bystander.design import Origin, Record, Status
from bystander.errors import UsageError
from bystander.exchange.readings.readings_in import COLUMNS

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["readings_frame", "readings_parquet"]

Floats = NDArray[np.float64]
Indices = NDArray[np.int64]


def readings_frame(record: Record) -> pd.DataFrame:
    """Return all readings of a record, a row each, in SI units; a trial without any has one row without a value.

    Columns are those of the CSV: workload, arm, measure, unit, status and machine as categories, block, order and
    sample as whole numbers that may be missing, value, and start in UTC. `attrs["units"]` gives the unit of each
    measure.
    """
    import pandas as pd

    head, trials = record.head, record.trials
    row, measure, sample, value = _readings(record)
    names = [one.name for one in head.measures]
    units = {one.name: one.unit for one in head.measures}
    statuses = list(dict.fromkeys(status.text for status in Status))
    texts = np.array([statuses.index(Status(code).text) for code in range(len(Status))], dtype=np.int64)
    hosts = list(dict.fromkeys(machine.host or "" for machine in head.machines)) or [""]
    of_host = np.array([hosts.index(machine.host or "") for machine in head.machines] or [0], dtype=np.int64)
    every_unit = list(dict.fromkeys([*units.values(), ""]))
    unit = np.array([every_unit.index(units[name]) for name in names], dtype=np.int64)[measure]
    columns = {
        "workload": _category(trials.workload[row], [workload.name for workload in head.study.workloads]),
        "arm": _category(trials.arm[row], [arm.name for arm in head.study.arms]),
        "block": _whole(trials.block[row]),
        "order": _whole(trials.order[row]),
        "measure": _category(measure, names),
        "value": value,
        "unit": _category(unit, every_unit),
        "status": _category(texts[trials.status[row]], statuses),
        "sample": _whole(sample),
        "start": pd.to_datetime(trials.started_s[row], unit="s", utc=True),
        "machine": _category(of_host[np.minimum(trials.machine[row], of_host.size - 1)], hosts),
    }
    frame = pd.DataFrame({name: columns[name] for name in COLUMNS})
    frame.attrs = {"record": head.name, "study": head.study.name, "units": units}
    return frame


def _category(codes: Indices, names: list[str]) -> Any:
    import pandas as pd

    return pd.Categorical.from_codes(codes, names)


def _whole(values: Indices) -> Any:
    """Return whole numbers of which those below zero are missing."""
    import pandas as pd

    return pd.arrays.IntegerArray(values.astype(np.int64), values < 0)


def _readings(record: Record) -> tuple[Indices, Indices, Indices, Floats]:
    """Return, for each reading, its trial, its measure, its sample (-1 for none) and its value."""
    head, readings = record.head, record.trials.readings
    known = np.isfinite(readings)
    # Of a trial that was observed the reading leaves its cold samples out, so they cannot stand for it.
    several = {} if head.origin == Origin.OBSERVED else record.samples
    names = {measure.name: at for at, measure in enumerate(head.measures)}
    rows: list[Indices] = []
    measures: list[Indices] = []
    samples: list[Indices] = []
    values: list[Floats] = []
    for (trial, name), found in several.items():
        known[trial, names[name]] = False
        finite = np.flatnonzero(np.isfinite(found))
        rows.append(np.full(finite.size, trial))
        measures.append(np.full(finite.size, names[name]))
        samples.append(finite)
        values.append(found[finite])
    row, measure = np.nonzero(known)
    silent = np.setdiff1d(np.arange(len(record.trials)), np.concatenate([row, *rows]) if rows else row)
    row = np.concatenate([row, *rows, silent])
    measure = np.concatenate([measure, *measures, np.full(silent.size, names.get(head.study.measure, 0))])
    sample = np.concatenate([np.full(int(known.sum()), -1), *samples, np.full(silent.size, -1)])
    value = np.concatenate([readings[known], *values, np.full(silent.size, np.nan)])
    order = np.lexsort(np.stack([sample, measure, row]))
    return row[order], measure[order], sample[order], value[order]


def readings_parquet(record: Record) -> bytes:
    """Return the frame of a record's readings as Parquet.

    Raises
    ------
    UsageError
        Where pyarrow, which is an extra, is not installed.
    """
    try:
        importlib.import_module("pyarrow")  # pandas takes it, and says less when it is missing
    except ImportError:
        raise UsageError('--to: Parquet takes pyarrow, which is not here; pip install "bystander[parquet]"') from None
    out = io.BytesIO()
    readings_frame(record).to_parquet(out, engine="pyarrow", index=False)
    return out.getvalue()
