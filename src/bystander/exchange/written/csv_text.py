"""CSV as all tables are written (RFC 4180), for programs, or for a spreadsheet that takes some texts for formulas."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

__all__ = ["csv_text"]

_FORMULA = ("=", "+", "-", "@")
# Control characters, which change what a terminal shows that prints the file; a line may end within a text.
_CONTROLS = {code: "\N{REPLACEMENT CHARACTER}" for code in (*range(32), *range(127, 160)) if chr(code) not in "\n\t"}
_CONTROLS[ord("\t")] = " "


def csv_text(rows: Iterable[Sequence[object]], spreadsheet: bool = False) -> str:
    """Return rows as CSV, without control characters.

    Parameters
    ----------
    spreadsheet : bool
        Put an apostrophe before texts that begin like a formula; then they do not read back as they were.
    """
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    plain = ([cell.translate(_CONTROLS) if isinstance(cell, str) else cell for cell in row] for row in rows)
    writer.writerows([_marked(cell) for cell in row] if spreadsheet else row for row in plain)
    return out.getvalue()


def _marked(cell: object) -> object:
    if not isinstance(cell, str) or not cell.startswith(_FORMULA):
        return cell
    try:
        float(cell)
    except ValueError:
        return "'" + cell
    return cell
