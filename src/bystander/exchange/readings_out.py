"""A record's trials: as CSV that reads back to the last bit, and as rows for another archive."""

from __future__ import annotations

import csv
import io
import math

import numpy as np

from bystander.design import ArrayRows, Record, Status, TrialRows
from bystander.exchange.readings_in import COLUMNS

__all__ = ["readings_csv", "record_parts"]


def readings_csv(record: Record) -> str:
    """Return all trials of a record as CSV, in SI units, numbers as Python writes them in full."""
    head, trials = record.head, record.trials
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")
    writer.writerow(COLUMNS)
    host = str(head.machine.get("host", ""))
    names = [(measure.name, measure.unit) for measure in head.measures]
    for row in range(len(trials)):
        block, order = int(trials.block[row]), int(trials.order[row])
        status = Status(int(trials.status[row]))
        start = trials.started_s[row]
        front = [
            head.study.workloads[trials.workload[row]].name, head.study.arms[trials.arm[row]].name,
            block if block >= 0 else "", order if order >= 0 else "",
        ]  # fmt: skip
        back = [status.text, "", "" if math.isnan(start) else f"{start:.6f}", host]
        written = 0
        for j, (name, unit) in enumerate(names):
            several = record.samples.get((row, name))
            values = [trials.readings[row, j]] if several is None else several
            for k, value in enumerate(values):
                if math.isfinite(value):
                    back[1] = "" if several is None else str(k)
                    writer.writerow([*front, name, repr(float(value)), unit, *back])
                    written += 1
        if not written:
            writer.writerow([*front, head.study.measure, "", dict(names).get(head.study.measure, ""), *back])
    return buffer.getvalue()


def record_parts(record: Record) -> tuple[tuple[TrialRows, ...], tuple[ArrayRows, ...]]:
    """Return a record's trials as rows to be written into an archive."""
    trials = record.trials
    names = [measure.name for measure in record.head.measures]
    rows, arrays = [], []
    for w in range(len(record.head.study.workloads)):
        mine = np.flatnonzero((trials.workload == w) & (trials.block >= 0))
        if mine.size:
            place = {int(row): i for i, row in enumerate(mine)}
            answers = [None if code < 0 else f"answer-{code}" for code in trials.answers[mine].tolist()]
            rows.append(
                TrialRows(
                    w, trials.block[mine], trials.arm[mine], trials.order[mine], trials.status[mine],
                    trials.details[mine], trials.limit_s[mine], trials.started_s[mine], trials.readings[mine],
                    tuple((place[r], names.index(name), v) for (r, name), v in record.samples.items() if r in place),
                    answers, [record.excerpts.get(int(row)) for row in mine],
                )
            )  # fmt: skip
        for a in range(len(record.head.study.arms)):
            alone = (trials.workload == w) & (trials.arm == a) & (trials.block < 0)
            for j in range(len(names)):
                these = np.flatnonzero(alone & ~np.isnan(trials.readings[:, j]))
                if these.size:
                    arrays.append(ArrayRows(w, a, j, trials.readings[these, j], trials.status[these].astype(np.int8)))
    return tuple(rows), tuple(arrays)
