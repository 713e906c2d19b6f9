"""Failures are results: how often each workload failed under each arm, how, and what it said."""

from __future__ import annotations

import signal
from collections import Counter
from dataclasses import dataclass

import numpy as np

from bystander.design import Record, Status

__all__ = ["Failure", "failures"]


@dataclass(frozen=True)
class Failure:
    """A workload under an arm some of whose trials failed.

    Attributes
    ----------
    failed, trials : int
    ways : tuple of (str, int)
        How, and how often, the most frequent first: "exit code 5", "signal SIGKILL", "cut at its limit".
    said : str
        What the first one printed last, "" for nothing.
    """

    workload: str
    arm: str
    failed: int
    trials: int
    ways: tuple[tuple[str, int], ...]
    said: str


def failures(record: Record) -> tuple[Failure, ...]:
    """Return where trials failed, in the study's order; empty when none did."""
    trials, study = record.trials, record.head.study
    bad = np.flatnonzero(trials.status != Status.OK)
    found = []
    for w, a in sorted(set(zip(trials.workload[bad].tolist(), trials.arm[bad].tolist(), strict=True))):
        mine = (trials.workload == w) & (trials.arm == a)
        rows = np.flatnonzero(mine & (trials.status != Status.OK)).tolist()
        ways = Counter(_way(Status(int(trials.status[row])), int(trials.details[row])) for row in rows)
        said = next((record.excerpts[row] for row in rows if record.excerpts.get(row)), "")
        found.append(
            Failure(
                study.workloads[w].name, study.arms[a].name, len(rows), int(np.count_nonzero(mine)),
                tuple(ways.most_common()), said,
            )
        )  # fmt: skip
    return tuple(found)


def _way(status: Status, detail: int) -> str:
    if status is Status.EXIT:
        return f"exit code {detail}" if detail else "a failing exit"
    if status is Status.SIGNAL:
        try:
            return f"signal {signal.Signals(detail).name}"
        except ValueError:
            return f"signal {detail}" if detail else "a signal"
    return {
        Status.CUT: "cut at its limit",
        Status.FLOOD: "ended for too much output",
        Status.NOT_STARTED: "not started",
    }.get(status, "no valid reading")
