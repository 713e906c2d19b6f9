"""From what the program of a trial told in marks to readings: phases, items, intervals, numbers of its own."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from bystander.design import MARKS_COST, UNMARKED, Marks, Measure, Timeline, told_measure
from bystander.evidence.kinds import Collected
from bystander.stats import alone, covered, enclosing, in_circles, median, outermost_of_name, quantile

__all__ = ["reduced"]

_QUANTILES = {"p90": 0.9, "p95": 0.95, "p99": 0.99}
_MOST_PHASES = 60
_FEWEST_LABELS, _MOST_LABELS = 4, 200


def reduced(marks: Marks, whole: bool) -> Collected:
    """Return the phases that were marked, what they amount to, and readings of all that was told.

    Parameters
    ----------
    whole : bool
        Whether the time in no phase is one of them: it is not where a trial takes samples.
    """
    marks = replace(marks, timeline=_nested(marks.timeline))
    readings = _phase_readings(marks.timeline, whole) | _work_readings(marks)
    measures = {name: told_measure(name) for name in readings}
    for name, (value, unit, better) in marks.readings.items():
        readings[f"reading:{name}"] = value
        measures[f"reading:{name}"] = Measure(f"reading:{name}", name, unit, better)
    summary = {
        "problems": dict(marks.problems), "labels": _labelled(marks.timeline), "instances": len(marks.timeline)
    }  # fmt: skip
    return Collected(marks.timeline, summary, readings, measures)


def _labelled(timeline: Timeline) -> dict[str, dict[str, float]]:
    """Return, for phases with several labels but not too many, the seconds of each label."""
    if not len(timeline):
        return {}
    places = timeline.name * len(timeline.labels) + timeline.label
    pairs, inverse = np.unique(places[timeline.label > 0], return_inverse=True)
    seconds = np.bincount(inverse, (timeline.end_ns - timeline.begin_ns)[timeline.label > 0]) / 1e9
    found: dict[str, dict[str, float]] = {}
    for pair, taken in zip(pairs.tolist(), seconds.tolist(), strict=True):
        name, label = divmod(pair, len(timeline.labels))
        found.setdefault(timeline.names[name], {})[timeline.labels[label]] = taken
    return {name: labels for name, labels in found.items() if _FEWEST_LABELS <= len(labels) <= _MOST_LABELS}


def _nested(timeline: Timeline) -> Timeline:
    """Find the phase around each one that does not name it."""
    found, open_ones = timeline.around, timeline.around == -2
    if open_ones.any():
        found = np.where(open_ones, enclosing(timeline.begin_ns, timeline.end_ns, timeline.lane), found)
    return replace(timeline, around=np.where(in_circles(found), -1, found))  # what names one in itself lies in none


def _phase_readings(timeline: Timeline, whole: bool) -> dict[str, float]:
    """Return seconds of each phase, with and without those inside, and of what no phase covers.

    Instances that run at once, on several threads or processes, are summed. A phase inside one of its own name
    is not counted twice.
    """
    if not len(timeline):
        return {}
    lengths = timeline.end_ns - timeline.begin_ns
    count = len(timeline.names)
    outermost = outermost_of_name(timeline.name, timeline.around)
    with_inside = np.bincount(timeline.name[outermost], lengths[outermost], count) / 1e9
    without = np.bincount(timeline.name, alone(timeline.begin_ns, timeline.end_ns, timeline.around), count) / 1e9
    readings: dict[str, float] = {}
    begun = np.full(count, np.iinfo(np.int64).max)
    np.minimum.at(begun, timeline.name, timeline.begin_ns)
    for i in np.argsort(begun, kind="stable").tolist()[:_MOST_PHASES]:
        name = timeline.names[i]
        readings[f"phase:{name}"] = float(with_inside[i])
        readings[f"phase-alone:{name}"] = float(without[i])
    if whole:
        begin, end = (np.clip(side, 0, timeline.length_ns) for side in (timeline.begin_ns, timeline.end_ns))
        readings[UNMARKED] = max(0.0, (timeline.length_ns - int(covered(begin, end)[0])) / 1e9)
    return readings


def _work_readings(marks: Marks) -> dict[str, float]:
    """Return items, and the summary of each stream of intervals."""
    readings = {f"items:{name}": count for name, count in marks.items.items()}
    if marks.cost_ns:
        readings[MARKS_COST] = marks.cost_ns / 1e9
    for name, values in marks.intervals.items():
        of = f"interval:{name}"
        readings |= {f"{of}:median": median(values), f"{of}:longest": float(values.max()), f"{of}:count": values.size}
        for part, share in _QUANTILES.items():
            if values.size * (1 - share) >= 2:  # fewer say nothing of the slowest
                readings[f"{of}:{part}"] = quantile(values, share)
        if name in marks.deadlines:
            readings[f"{of}:deadline"] = marks.deadlines[name]
            readings[f"{of}:missed"] = float(np.mean(values > marks.deadlines[name]))
    return {name: float(value) for name, value in readings.items()}
