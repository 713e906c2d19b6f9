"""A CSV table whose columns are checked one after another; the first fault is told with its line."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bystander.errors import DataError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["CsvTable"]

# Columns of few distinct texts; the others hold numbers, and are read as such where all of them are.
_NAMES = ("workload", "arm", "measure", "unit", "status", "machine")


class CsvTable:
    """The columns of a file.

    Parameters
    ----------
    required, known : sequence of str
        Columns that must be there, and all that are not ignored.

    Raises
    ------
    DataError
        When it is no table of text, or lacks a column.
    """

    def __init__(self, data: bytes, file: str, required: Sequence[str], known: Sequence[str]) -> None:
        self.file = file
        names = self._header(data, required)
        self.ignored = [name for name in names if name not in known]
        self.frame = self._parsed(data, [name for name in names if name in known])
        if self.frame.empty:
            raise DataError(f"{file}: it has no row below its first line")

    def _header(self, data: bytes, required: Sequence[str]) -> list[str]:
        try:
            text = data.decode("utf-8-sig")
        except UnicodeDecodeError:
            raise DataError(f"{self.file}: it is no UTF-8 text") from None
        if "\0" in text:
            raise DataError(f"{self.file}: it is no text: it holds zero bytes")
        if not text.strip():
            raise DataError(f"{self.file}: it is empty; its first line must name the columns {','.join(required)}")
        first = text.lstrip("\r\n").splitlines()[0]
        names = [name.strip() for name in next(csv.reader([first], skipinitialspace=True))]
        missing = [name for name in required if name not in names]
        if missing:
            raise DataError(
                f"{self.file}: there is no column {', '.join(missing)}; its first line must name "
                f"{','.join(required)}, and block and order where trials are paired"
            )
        if len(set(names)) < len(names):
            raise DataError(f"{self.file}: a column stands twice; each may be given once")
        return names

    def _parsed(self, data: bytes, wanted: Sequence[str]) -> pd.DataFrame:
        import pandas as pd

        try:
            frame = pd.read_csv(
                io.BytesIO(data), dtype=dict.fromkeys(_NAMES, "category"), keep_default_na=False, na_values=[""],
                skipinitialspace=True, encoding="utf-8-sig", low_memory=False,
            )  # fmt: skip
        except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError, OverflowError) as error:
            reason = str(error).replace("Error tokenizing data. C error: ", "").strip().splitlines()[0]
            raise DataError(f"{self.file}: it is no CSV table: {reason}") from None
        if not isinstance(frame.index, pd.RangeIndex):  # surplus cells were taken for row labels
            raise DataError(f"{self.file}: it is no CSV table: its rows have more cells than its first line")
        frame.columns = [str(name).strip() for name in frame.columns]
        return frame[list(wanted)]

    def fail(self, row: int, column: str, clause: str) -> DataError:
        """Return the error of a fault in a row (from 0) and column."""
        return DataError(f"{self.file}: line {row + 2}: {column}: {clause}")

    def _texts(self, column: str) -> NDArray[Any]:
        """Return a column as texts, "" where empty; for columns that are not all numbers."""
        return np.array(["" if value is None or value != value else str(value).strip() for value in self.frame[column]])

    def names(self, column: str, empty: bool = False) -> tuple[NDArray[np.int64], tuple[str, ...]]:
        """Return numbers, and the names that they stand for in order of appearance; "" only with `empty`."""
        if column not in self.frame.columns:
            return np.zeros(len(self.frame), dtype=np.int64), ("",)
        categories = self.frame[column].cat
        texts = [str(name).strip() for name in categories.categories] + [""]
        codes = categories.codes.to_numpy().astype(np.int64)
        distinct = list(dict.fromkeys(texts))
        merged = np.array([distinct.index(text) for text in texts], dtype=np.int64)[codes]
        present, first = np.unique(merged, return_index=True)
        ordered = present[np.argsort(first)]
        if not empty and "" in [distinct[code] for code in ordered]:
            at = int(np.argmax(merged == distinct.index("")))
            raise self.fail(at, column, "it is empty; every row needs one")
        place = np.zeros(len(distinct), dtype=np.int64)
        place[ordered] = np.arange(ordered.size)
        return place[merged], tuple(distinct[code] for code in ordered)

    def numbers(self, column: str) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
        """Return a column of numbers, NaN where empty or said to be, and which cells are empty."""
        import pandas as pd

        if column not in self.frame.columns:
            return np.full(len(self.frame), math.nan), np.ones(len(self.frame), dtype=bool)
        values = self.frame[column]
        if pd.api.types.is_numeric_dtype(values) and not pd.api.types.is_bool_dtype(values):
            numbers = values.to_numpy(np.float64, copy=True)
            empty = np.isnan(numbers)
            unreadable = np.isinf(numbers)
        else:
            texts = pd.Series(self._texts(column))
            numbers = pd.to_numeric(texts, errors="coerce").to_numpy(np.float64, copy=True)
            empty = (texts == "").to_numpy()
            nan = texts.str.lower().isin(["nan", ""]).to_numpy()
            unreadable = (np.isnan(numbers) & ~nan) | np.isinf(numbers)
        wrong = np.flatnonzero(unreadable)
        if wrong.size:
            raise self.fail(int(wrong[0]), column, f'"{self.frame[column].iloc[wrong[0]]}" is no number')
        return numbers, empty

    def whole_numbers(self, column: str) -> NDArray[np.int64]:
        """Return a column of whole numbers from 0, -1 where empty."""
        numbers, empty = self.numbers(column)
        wrong = np.flatnonzero(~empty & ~((numbers == np.floor(numbers)) & (numbers >= 0) & (numbers < 2**53)))
        if wrong.size:
            shown = self.frame[column].iloc[wrong[0]]
            raise self.fail(int(wrong[0]), column, f'"{shown}" is no whole number of 0 or more')
        return np.where(empty, -1, np.nan_to_num(numbers)).astype(np.int64)

    def numbers_or_names(self, column: str) -> NDArray[np.int64]:
        """Return whole numbers as they are, or numbers that stand for names; -1 where empty."""
        import pandas as pd

        if column not in self.frame.columns:
            return np.full(len(self.frame), -1, dtype=np.int64)
        try:
            numbers = self.whole_numbers(column)
            if numbers.max() < 2**31:
                return numbers
        except DataError:
            pass
        texts = self._texts(column)
        return np.where(texts == "", -1, pd.factorize(texts)[0]).astype(np.int64)

    def times(self, column: str) -> NDArray[np.float64]:
        """Return times in seconds since 1970, given as such or by ISO 8601; NaN where empty."""
        import pandas as pd

        if column not in self.frame.columns:
            return np.full(len(self.frame), math.nan)
        texts = self.frame[column]
        if pd.api.types.is_numeric_dtype(texts):
            return np.asarray(texts.to_numpy(np.float64), dtype=np.float64)
        texts = pd.Series(self._texts(column))
        values = pd.to_numeric(texts, errors="coerce").to_numpy(np.float64, copy=True)
        dates = np.flatnonzero(np.isnan(values) & (texts != "").to_numpy())
        read = pd.to_datetime(texts.iloc[dates], utc=True, format="ISO8601", errors="coerce")
        wrong = np.flatnonzero(read.isna().to_numpy())
        if wrong.size:
            at = int(dates[wrong[0]])
            raise self.fail(at, column, f'"{texts.iloc[at]}" is no time; write seconds since 1970, or ISO 8601')
        values[dates] = (read - pd.Timestamp(0, tz="UTC")).dt.total_seconds().to_numpy()
        return np.asarray(values, dtype=np.float64)
