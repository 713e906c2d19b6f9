"""A record's trials: as CSV that reads back to the last bit, and as rows for another archive."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np

from bystander.design import Origin, Record, Status, TrialArray
from bystander.exchange.readings.readings_in import COLUMNS
from bystander.exchange.written.csv_text import csv_text

__all__ = ["readings_csv", "record_arrays"]


def readings_csv(record: Record, spreadsheet: bool = False) -> str:
    """Return all trials of a record as CSV, in SI units, numbers as Python writes them in full.

    Parameters
    ----------
    spreadsheet : bool
        Mark texts that a spreadsheet would take for formulas.
    """
    return csv_text(_rows(record), spreadsheet)


def _rows(record: Record) -> Iterator[Sequence[object]]:
    head, trials = record.head, record.trials
    yield COLUMNS
    hosts = [machine.host or "" for machine in head.machines]
    names = [(measure.name, measure.unit) for measure in head.measures]
    for row in range(len(trials)):
        block, order = int(trials.block[row]), int(trials.order[row])
        status = Status(int(trials.status[row]))
        start = trials.started_s[row]
        front = [
            head.study.workloads[trials.workload[row]].name, head.study.arms[trials.arm[row]].name,
            block if block >= 0 else "", order if order >= 0 else "",
        ]  # fmt: skip
        host = hosts[trials.machine[row]] if hosts else ""
        back = [status.text, "", "" if math.isnan(start) else f"{start:.6f}", host]
        written = 0
        for j, (name, unit) in enumerate(names):
            # Of a trial that was observed the reading leaves its cold samples out, so they cannot stand for it.
            several = None if head.origin == Origin.OBSERVED else record.samples.get((row, name))
            values = [trials.readings[row, j]] if several is None else several
            for k, value in enumerate(values):
                if math.isfinite(value):
                    back[1] = "" if several is None else str(k)
                    yield [*front, name, repr(float(value)), unit, *back]
                    written += 1
        if not written:
            yield [*front, head.study.measure, "", dict(names).get(head.study.measure, ""), *back]


def record_arrays(record: Record) -> tuple[TrialArray, ...]:
    """Return a record's trials as arrays to be written into an archive."""
    trials, study = record.trials, record.head.study
    names = [measure.name for measure in record.head.measures]
    found = []
    for w in range(len(study.workloads)):
        for a in range(len(study.arms)):
            mine = np.flatnonzero((trials.workload == w) & (trials.arm == a))
            if not mine.size:
                continue
            place = {int(row): i for i, row in enumerate(mine)}
            codes = enumerate(trials.answers[mine].tolist())
            found.append(
                TrialArray(
                    w, a, trials.block[mine], trials.order[mine], trials.status[mine], trials.details[mine],
                    trials.limit_s[mine], trials.started_s[mine], trials.readings[mine], trials.machine[mine],
                    [(place[r], names.index(name), v) for (r, name), v in record.samples.items() if r in place],
                    {row: f"answer-{code}" for row, code in codes if code >= 0},
                    {place[row]: text for row, text in record.excerpts.items() if row in place},
                    {place[row]: packets for row, packets in record.evidence.items() if row in place},
                )
            )  # fmt: skip
    return tuple(found)
