"""What programs told of themselves, in plain words: other work, marks that went wrong, an instance that stands out."""

from __future__ import annotations

from collections import Counter

import numpy as np
from numpy.typing import NDArray

from bystander.design import BROKEN, IN_MEMORY, MARKS_COST, OUTSIDE, TIMELINE, UNBEGUN, UNENDED, Record, Start
from bystander.stats import median, robust_spread
from bystander.units import quantity_text, share_text
from bystander.verdicts.compared.row_trials import RowTrials
from bystander.verdicts.types import Note

__all__ = ["marks_notes", "start_notes"]

_DEAR = 0.01  # share of a trial that its marks may take before it is said
_STAYED = 0.05  # share of files that may be where they should not be
_FAR, _TIMES = 5.0, 2.0  # robust standard deviations, and factor, by which an instance stands out
_WRONG = {
    UNENDED: "a phase has no end; it is counted to the trial's end",
    BROKEN: "some lines of the marks cannot be read",
    UNBEGUN: "a phase ends that never began",
    OUTSIDE: "a phase lies outside of the trial's time, as if another clock was read",
}


def marks_notes(record: Record, pair: RowTrials) -> list[Note]:
    """Return what is to be said of a workload whose programs told something."""
    notes = _work(record, pair)
    summaries = record.summaries(TIMELINE)
    if not summaries:
        return notes
    rows = pair.both.tolist()
    mine = [summaries[row] for row in rows if row in summaries]
    if not mine:
        return notes
    problems: Counter[str] = Counter()
    for one in mine:
        problems.update(dict.fromkeys(one.get("problems", {}), 1))
    for problem, count in problems.items():
        wrong = _WRONG.get(problem, problem)
        code = "phase-unended" if problem == UNENDED else "marks-broken"
        notes.append(Note(code, f"In {count} of {len(rows)} trials {wrong}."))
    return notes + _cost(record, pair) + _outstanding(record, pair)


def start_notes(record: Record, pair: RowTrials) -> list[Note]:
    """Tell when a start was not from where the study says."""
    start = record.head.study.workloads[pair.workload].start
    if not Start(start).places_files or not record.reads(IN_MEMORY):
        return []
    shares = record.column(IN_MEMORY)[pair.both]
    shares = shares[np.isfinite(shares)]
    if not shares.size:
        return []
    typical = median(shares)
    if start == Start.FROM_DISK and typical > _STAYED:
        sentence = (
            f"Before its trials {share_text(typical)} of its files were in memory still: this was no start from disk."
        )
    elif start == Start.FROM_MEMORY and typical < 1 - _STAYED:
        sentence = f"Before its trials only {share_text(typical)} of its files were in memory."
    else:
        return []
    return [Note("start-not-met", sentence)]


def _work(record: Record, pair: RowTrials) -> list[Note]:
    """Tell when the arms did not do the same work."""
    trials, study, differing = record.trials, record.head.study, []
    for j, measure in enumerate(record.head.measures):
        if not measure.is_work:
            continue
        first, second = (trials.readings[side, j] for side in (pair.reference, pair.candidate))
        known = [side[np.isfinite(side)] for side in (first, second)]
        if not all(side.size for side in known):
            continue
        if pair.paired:
            both = np.isfinite(first) & np.isfinite(second)
            differs = bool((first[both] != second[both]).any())
        else:
            differs = median(known[0]) != median(known[1])
        if differs:
            amounts = [quantity_text(median(side), measure.unit) for side in known]
            differing.append(f"{measure.label} {amounts[0]} and {amounts[1]}")
    if not differing:
        return []
    names = " and ".join(study.names(pair.comparison))
    return [Note("work-differs", f"{names} do not do the same work: {'; '.join(differing)}.")]


def _cost(record: Record, pair: RowTrials) -> list[Note]:
    """Tell when the marks themselves take more than a hundredth of a trial."""
    if not record.reads(MARKS_COST, "elapsed"):
        return []
    cost, elapsed = record.column(MARKS_COST), record.column("elapsed")
    shares = []
    for side in (pair.reference, pair.candidate):
        share = cost[side] / elapsed[side]
        shares.append(median(share[np.isfinite(share)]) if np.isfinite(share).any() else 0.0)
    if max(shares) <= _DEAR:
        return []
    return [Note("marks-cost", f"Marking phases takes about {share_text(max(shares))} of a trial; mark fewer.")]


def _outstanding(record: Record, pair: RowTrials) -> list[Note]:
    """Name an instance that takes much longer than its like, in the candidate where there is one."""
    name, notes = record.head.study.names(pair.comparison)[1], []
    summaries = record.summaries(TIMELINE)
    mine = [one for row in pair.candidate.tolist() if (one := summaries.get(row))]
    phases = dict.fromkeys(name for one in mine for name in one.get("labels", {}))
    for phase in phases:
        by_label: dict[str, list[float]] = {}
        for one in mine:
            for label, seconds in one["labels"].get(phase, {}).items():
                by_label.setdefault(label, []).append(seconds)
        labels = list(by_label)
        typical = np.array([median(np.array(by_label[label])) for label in labels])
        most = _stands_out(typical)
        if most is not None:
            like = median(np.delete(typical, most))
            notes.append(
                Note(
                    "stands-out",
                    f"Phase {phase}: {labels[most]} takes {typical[most] / like:.1f} times as long as its like "
                    f"({quantity_text(float(typical[most]), 's', 2)}, {quantity_text(like, 's', 2)} typically, under "
                    f"{name}).",
                )
            )
    return notes


def _stands_out(typical: NDArray[np.float64]) -> int | None:
    """Return the place of the longest, where it is far from the others by both measures; None otherwise."""
    most = int(np.argmax(typical))
    others = np.delete(typical, most)
    middle = median(others)
    spread = robust_spread(others)
    far = typical[most] > middle + _FAR * spread and typical[most] > _TIMES * middle
    return most if others.size >= 3 and middle > 0 and far else None
