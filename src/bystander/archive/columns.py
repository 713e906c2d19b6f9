"""From rows of an archive to the columns of a record."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bystander.design import Evidence, Record, RecordHead, Trials, refuse_strays

__all__ = ["TrialRows", "assembled"]

_WHOLE_COLUMNS = ("workload", "arm", "block", "order", "status", "details", "machine")
_REAL_COLUMNS = ("limit_s", "started_s")


@dataclass
class _Part:
    """Some trials as columns of one length, with texts, samples and evidence by row."""

    columns: dict[str, NDArray[Any]]
    readings: NDArray[np.float64]
    answers: Sequence[str | None]
    excerpts: dict[int, str] = field(default_factory=dict)
    samples: list[tuple[int, int, NDArray[np.float64]]] = field(default_factory=list)
    evidence: dict[int, tuple[Evidence, ...]] = field(default_factory=dict)


@dataclass(frozen=True)
class TrialRows:
    """What an archive holds of a record's trials.

    Attributes
    ----------
    trials, arrays, samples : sequence of rows
        Of the tables of these names.
    evidence : sequence of (row, Evidence)
        Rows tell whose it is.
    machines : mapping
        Positions of the record's machines by their rows.
    """

    trials: Sequence[sqlite3.Row]
    arrays: Sequence[sqlite3.Row]
    samples: Sequence[sqlite3.Row]
    evidence: Sequence[tuple[sqlite3.Row, Evidence]]
    machines: Mapping[int, int]

    def samples_of(self) -> dict[int | None, list[sqlite3.Row]]:
        """Return the samples of each array of imported trials; None stands for observed ones."""
        groups: dict[int | None, list[sqlite3.Row]] = {}
        for row in self.samples:
            groups.setdefault(row["array_id"], []).append(row)
        return groups

    def evidence_by(self, column: str, array: int | None) -> dict[int, tuple[Evidence, ...]]:
        """Return evidence by a column of its rows, of one array or of observed trials."""
        found: dict[int, tuple[Evidence, ...]] = {}
        for row, packet in self.evidence:
            if row["array_id"] == array and row[column] is not None:
                found[row[column]] = (*found.get(row[column], ()), packet)
        return found


def assembled(head: RecordHead, rows: TrialRows) -> Record:
    """Return the record of these rows: trials that were observed first, then those that were imported."""
    width, samples = len(head.measures), rows.samples_of()
    parts = [_observed(rows, samples.get(None, []), width)] if rows.trials else []
    parts += [_imported(row, rows, samples.get(row["id"], []), width) for row in rows.arrays]
    names = [measure.name for measure in head.measures]
    starts = np.cumsum([0, *(len(part.answers) for part in parts)]).tolist()
    several: dict[tuple[int, str], NDArray[np.float64]] = {}
    evidence: dict[int, tuple[Evidence, ...]] = {}
    excerpts: dict[int, str] = {}
    answers: list[str | None] = []
    for part, start in zip(parts, starts, strict=False):
        several |= {(start + row, names[measure]): values for row, measure, values in part.samples}
        excerpts |= {start + row: text for row, text in part.excerpts.items()}
        evidence |= {start + row: packets for row, packets in part.evidence.items()}
        answers += part.answers
    columns: dict[str, Any] = {
        name: np.concatenate([part.columns[name] for part in parts] or [np.empty(0)]).astype(kind)
        for kind, names_of_kind in ((np.int64, _WHOLE_COLUMNS), (np.float64, _REAL_COLUMNS))
        for name in names_of_kind
    }
    readings = np.concatenate([part.readings for part in parts] or [np.empty((0, width))])
    columns |= {"readings": readings, "answers": _numbered(answers)}
    trials = Trials(**columns)
    refuse_strays(head, trials)
    return Record(head, trials, several, excerpts, evidence=evidence)


def _unpacked(data: bytes, kind: str = "<f8") -> NDArray[Any]:
    return np.frombuffer(data, dtype=kind)


def _widened(readings: Sequence[bytes], width: int) -> NDArray[np.float64]:
    """Return a row a trial; one that was written before the last measures were known ends in NaN."""
    if all(len(row) == 8 * width for row in readings):
        return _unpacked(b"".join(readings)).reshape(-1, width)
    found = np.full((len(readings), width), np.nan)
    for i, row in enumerate(readings):
        found[i, : len(row) // 8] = _unpacked(row)
    return found


def _observed(rows: TrialRows, samples: Sequence[sqlite3.Row], width: int) -> _Part:
    trials = rows.trials
    by_column = list(zip(*trials, strict=True))
    place = dict(zip(trials[0].keys(), by_column, strict=True))
    at = {trial: row for row, trial in enumerate(place["id"])}
    columns = {name: np.array(place[name], dtype=np.int64) for name in _WHOLE_COLUMNS}
    columns["machine"] = np.array([rows.machines[machine] for machine in place["machine"]], dtype=np.int64)
    columns |= {name: np.array(place[name], dtype=np.float64) for name in _REAL_COLUMNS}
    return _Part(
        columns,
        _widened(place["readings"], width),
        place["answer"],
        {row: text for row, text in enumerate(place["excerpt"]) if text},
        [(at[s["trial_id"]], s["measure"], _unpacked(s["readings"])) for s in samples if s["trial_id"] in at],
        {at[trial]: packets for trial, packets in rows.evidence_by("trial_id", None).items() if trial in at},
    )


def _imported(row: sqlite3.Row, rows: TrialRows, samples: Sequence[sqlite3.Row], width: int) -> _Part:
    texts = json.loads(row["texts"])
    answers: list[str | None] = [None] * row["trials"]
    for at, answer in texts["answers"].items():
        answers[int(at)] = answer
    columns = {
        "workload": np.full(row["trials"], row["workload"]),
        "arm": np.full(row["trials"], row["arm"]),
        "block": _unpacked(row["blocks"], "<i8"),
        "order": _unpacked(row["orders"], "<i8"),
        "status": _unpacked(row["statuses"], "<i8"),
        "details": _unpacked(row["details"], "<i8"),
        "machine": _unpacked(row["machines"], "<i8") if row["machines"] else np.zeros(row["trials"], dtype=np.int64),
        "limit_s": _unpacked(row["limits_s"]),
        "started_s": _unpacked(row["started_s"]),
    }
    return _Part(
        columns,
        _unpacked(row["readings"]).reshape(-1, width),
        answers,
        {int(at): text for at, text in texts["excerpts"].items()},
        [(s["array_row"], s["measure"], _unpacked(s["readings"])) for s in samples],
        rows.evidence_by("array_row", row["id"]),
    )


def _numbered(answers: Sequence[str | None]) -> NDArray[np.int64]:
    """Return equal numbers for equal answers, -1 for none."""
    if not any(answers):
        return np.full(len(answers), -1, dtype=np.int64)
    numbers: dict[str | None, int] = {None: -1}
    return np.array([numbers.setdefault(answer, len(numbers)) for answer in answers], dtype=np.int64)
