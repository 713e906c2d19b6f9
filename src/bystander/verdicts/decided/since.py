"""A record held against an earlier one: by verdicts, and by numbers where both hours can be compared."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from bystander.design import Record, RecordHead
from bystander.stats import FEWEST_PAIRS, HoursApart, by_pairs, by_reference, median
from bystander.verdicts.compared.compared import ComparedRecord, main_measure
from bystander.verdicts.compared.row_readings import RowReadings, row_readings
from bystander.verdicts.since import Change, Since, SinceRow
from bystander.verdicts.types import Decision, Row
from bystander.verdicts.words import Scale, Verdict

__all__ = ["same_code_change", "since"]

Floats = NDArray[np.float64]
_FEWEST = 6


def since(
    now: tuple[Record, Decision], then: tuple[Record, Decision], pairs: Mapping[str, Floats]
) -> Since:  # fmt: skip
    """Return how each row of the study's measure stands beside the same workload's of an earlier record.

    Parameters
    ----------
    now, then : (Record, Decision)
    pairs : mapping
        By key of a workload: by how much records of one code differed on this machine, so far apart.
    """
    earlier: dict[str, list[Row]] = {}
    keys = _keys(then[0].head)
    for row in then[1].primary:
        earlier.setdefault(keys[row.workload], []).append(row)
    mine, compared = _keys(now[0].head), (ComparedRecord(now[0]), ComparedRecord(then[0]))
    rows = []
    for row in now[1].primary:
        key = mine[row.workload]
        other = _same(row, earlier.get(key, []))
        if other is None:
            rows.append(SinceRow(row, None, Change.ONLY_NOW))
            continue
        apart, why = _apart(compared, row, other, pairs.get(key, np.zeros(0)))
        rows.append(SinceRow(row, other, _change(row, other), apart, why))
    order = list(Change)
    return Since(then[0].head, tuple(sorted(rows, key=lambda one: order.index(one.change))))


def _keys(head: RecordHead) -> dict[str, str]:
    names = [workload.name for workload in head.study.workloads]
    return dict(zip(names, head.workload_keys or names, strict=False))


def _same(row: Row, others: list[Row]) -> Row | None:
    """Return the row of the earlier record: under the same candidate by name, or its only one."""
    named = [one for one in others if one.arm == row.arm]
    return (named or (others if len(others) == 1 else [None]))[0]  # type: ignore[list-item]


def _worse(row: Row) -> bool:
    return Verdict(row.verdict).is_worse or row.verdict == Verdict.FAILED


def _change(now: Row, then: Row) -> Change:
    if _worse(now):
        if _worse(then):
            return Change.PERSISTING
        return Change.NOT_SEEN_THEN if then.verdict == Verdict.UNCLEAR else Change.NEW
    if _worse(then):
        return Change.NOT_SEEN_NOW if now.verdict == Verdict.UNCLEAR else Change.MENDED
    return Change.ALIKE


def _apart(
    compared: tuple[ComparedRecord, ComparedRecord], now: Row, then: Row, pairs: Floats
) -> tuple[HoursApart | None, str]:
    """Return how the candidate changed between the two records, or why that cannot be told."""
    heads = [one.record.head for one in compared]
    if now.scale != Scale.RATIO or then.scale != Scale.RATIO or now.measure.name != then.measure.name:
        return None, "their measures or scales differ"
    if heads[0].machine.host != heads[1].machine.host or heads[0].machine.processor != heads[1].machine.processor:
        return None, "they ran on different machines"
    readings = [_readings(one, row) for one, row in zip(compared, (now, then), strict=True)]
    if any(one is None or not one.exact or one.size < _FEWEST for one in readings):
        return None, "one of them has failures, or too few blocks"
    references = [head.arms[row.comparison.reference].key for head, row in zip(heads, (now, then), strict=True)]
    assert readings[0] is not None
    assert readings[1] is not None
    if references[0] and references[0] == references[1]:
        return by_reference(readings[1].differences[0], readings[0].differences[0]), ""
    if pairs.size >= FEWEST_PAIRS:
        change = math.log(now.candidate.median / then.candidate.median)
        return by_pairs(change, pairs), ""
    return None, f"their references differ, and {pairs.size} pairs of records of one code are too few to go by"


def _readings(compared: ComparedRecord, row: Row) -> RowReadings | None:
    measure = main_measure(compared.record)
    pairs = [pair for pair in compared.rows(row.comparison) if _name(compared, pair.workload) == row.workload]
    if not pairs:
        return None
    seen = compared.readings(measure, row.comparison)
    return row_readings(compared.record.trials, pairs, seen, compared.record.head.study.margin)[0]


def _name(compared: ComparedRecord, workload: int) -> str:
    return compared.record.head.study.workloads[workload].name


def same_code_change(first: Record, later: Record, key: str, arm: str) -> float:
    """Return by how much the medians of one state differ in two records, on the log scale; NaN where they cannot.

    Parameters
    ----------
    key : str
        Of the workload.
    arm : str
        The key of an arm that is in both.
    """
    middles = []
    for record in (first, later):
        workload = list(record.head.workload_keys).index(key)
        place = next(i for i, state in enumerate(record.head.arms) if state.key == arm)
        rows = record.trials.by_cell.get((workload, place), np.zeros(0, dtype=np.int64))
        name = main_measure(record).name
        values = record.column(name)[rows]
        values = values[np.isfinite(values) & (values > 0) & ~record.trials.failed[rows]]
        middles.append(math.log(median(values)) if values.size >= _FEWEST else math.nan)
    return middles[1] - middles[0]
