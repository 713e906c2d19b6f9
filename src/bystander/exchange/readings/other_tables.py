"""Readings as others write them: a table with columns of its own, a file for each arm, one number a line.

All of it becomes the long form of `readings_in`, which is then read as ever.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from bystander.errors import DataError
from bystander.exchange.readings.readings_in import COLUMNS
from bystander.units import SIZE_UNITS, TIME_UNITS, listed

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["OtherTable", "TableColumns", "long_form"]

_KEPT = ("block", "order", "status", "sample", "start", "machine")  # taken as they are where they stand
_USUAL = {"workload": "program", "arm": "now", "value": "value"}


@dataclass(frozen=True)
class TableColumns:
    """Which columns hold what; None leaves it to the names that our own tables have.

    Attributes
    ----------
    unit : str or None
        Of all values; a column `unit` by default, and seconds without one.
    measure : str or None
        What the values are; `elapsed` where they are times.
    """

    workload: str | None = None
    arm: str | None = None
    value: str | None = None
    unit: str | None = None
    measure: str | None = None

    @property
    def given(self) -> bool:
        """Whether anything is said."""
        return any((self.workload, self.arm, self.value, self.unit))


@dataclass(frozen=True)
class OtherTable:
    """One file: its content, the name by which messages call it, and the arm that it is of, "" where it says."""

    data: bytes
    file: str
    arm: str = ""


def long_form(tables: Sequence[OtherTable], columns: TableColumns) -> tuple[bytes, list[str]]:
    """Return tables as one CSV table in long form, and what was assumed.

    Raises
    ------
    DataError
        With the file, line, column and value of the first fault.
    """
    import pandas as pd

    if len(tables) == 1 and not tables[0].arm and not columns.given and _is_ours(tables[0].data):
        return tables[0].data, []
    assumed: dict[str, None] = {}
    frames = [_frame(table, columns, assumed) for table in tables]
    return pd.concat(frames).to_csv(index=False).encode("utf-8"), list(assumed)


def _is_ours(data: bytes) -> bool:
    """Whether a table names columns: those of our own, or others, which our own reader complains of best."""
    first = _first_line(data)
    return "," in first or not _is_number(first)


def _first_line(data: bytes) -> str:
    lines = data[: 1 << 16].decode("utf-8-sig", "replace").strip().splitlines()
    return lines[0] if lines else ""


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _frame(table: OtherTable, columns: TableColumns, assumed: dict[str, None]) -> pd.DataFrame:
    """Return one table in long form."""
    import pandas as pd

    bare = _is_number(_first_line(table.data))
    read = _numbers(table) if bare else _cells(table)
    known = list(read.columns)
    for column in (columns.workload, columns.arm, columns.value):
        if column and column not in known:
            raise DataError(f'{table.file}: there is no column "{column}"; it has {listed(known, 8)}')
    value = columns.value or "value"
    if value not in known:
        raise DataError(f"{table.file}: which column holds the values? say --value-column, one of {listed(known, 8)}")
    if table.arm and columns.arm:
        raise DataError(f"{table.file}: {table.arm}= names its arm, and --arm-column too; keep one of them")
    frame = pd.DataFrame({"value": read[value].str.strip()})
    for name, column, fixed in (("workload", columns.workload, ""), ("arm", columns.arm, table.arm)):
        column = column or (name if name in known and not fixed else None)
        frame[name] = read[column].str.strip() if column else fixed or _USUAL[name]
    unit = columns.unit or ("" if "unit" in known else "s")
    frame["unit"] = unit or read["unit"].str.strip()
    if not columns.unit and unit:
        assumed["Values are taken for seconds; --unit says otherwise."] = None
    frame["measure"] = _measure(read, columns, value, unit)
    for name in _KEPT:
        if name in known and name not in (columns.workload, columns.arm, value):
            frame[name] = read[name]
    _check(table, frame, value, bare)
    return frame[[name for name in COLUMNS if name in frame.columns]]


def _measure(read: pd.DataFrame, columns: TableColumns, value: str, unit: str) -> pd.Series | str:
    if columns.measure:
        return columns.measure
    if "measure" in read.columns and value != "measure":
        named: pd.Series = read["measure"].str.strip()
        return named
    if not unit or unit in TIME_UNITS:
        return "elapsed"
    return "peak_memory" if unit in SIZE_UNITS and value == "value" else value


def _check(table: OtherTable, frame: pd.DataFrame, value: str, bare: bool) -> None:
    """Raise DataError for the first value that is no number: later nobody knows in which file and line it stood."""
    import pandas as pd

    numbers, texts = pd.to_numeric(frame["value"], errors="coerce"), frame["value"]
    wrong = (numbers.isna() & ~texts.str.lower().isin(["nan"])).to_numpy().nonzero()[0]
    if wrong.size and not ("status" in frame.columns and (texts.iloc[wrong] == "").all()):
        at = int(wrong[0])
        line, where = at + (1 if bare else 2), "" if bare else f" {value}:"
        raise DataError(f'{table.file}: line {line}:{where} "{texts.iloc[at]}" is no number')


def _numbers(table: OtherTable) -> pd.DataFrame:
    """Return a column of one number a line; empty lines do not count."""
    import pandas as pd

    try:
        text = table.data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise DataError(f"{table.file}: it is no UTF-8 text") from None
    return pd.DataFrame({"value": [line for line in text.splitlines() if line.strip()]}, dtype=object)


def _cells(table: OtherTable) -> pd.DataFrame:
    """Return a table of texts, its columns named by its first line."""
    import pandas as pd

    if not _first_line(table.data):
        raise DataError(f"{table.file}: it is empty")
    try:
        first = next(csv.reader([_first_line(table.data)], skipinitialspace=True))
        frame = pd.read_csv(
            io.BytesIO(table.data), dtype=str, keep_default_na=False, skipinitialspace=True, encoding="utf-8-sig"
        )
    except UnicodeDecodeError:
        raise DataError(f"{table.file}: it is no UTF-8 text") from None
    except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError, csv.Error) as error:
        reason = str(error).replace("Error tokenizing data. C error: ", "").strip().splitlines()[0]
        raise DataError(f"{table.file}: it is no CSV table: {reason}") from None
    if len({name.strip() for name in first}) < len(first):
        raise DataError(f"{table.file}: a column stands twice; each may be given once")
    if not isinstance(frame.index, pd.RangeIndex):
        raise DataError(f"{table.file}: it is no CSV table: its rows have more cells than its first line")
    if frame.empty:
        raise DataError(f"{table.file}: it has no row below its first line")
    frame.columns = [str(name).strip() for name in frame.columns]
    return frame
