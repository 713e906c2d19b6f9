"""From what the program of a trial told of itself to readings: phases, items, intervals, numbers of its own."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from bystander.design import MARKS_COST, UNMARKED, Measure, Timeline, Told, TrialOutcome, told_measure
from bystander.errors import DataError
from bystander.exchange import Spans, read_marks, read_spans
from bystander.stats import alone, covered, enclosing, median, outermost_of_name, quantile

__all__ = ["with_told"]

_QUANTILES = {"p90": 0.9, "p95": 0.95, "p99": 0.99}
_MOST_PHASES = 60
_CLOCK_SLACK_NS = 1_000_000  # by which the wall clock may have been moved meanwhile
_FEWEST_LABELS, _MOST_LABELS = 4, 200


def with_told(outcome: TrialOutcome, marks: Path, spans: Path | None = None) -> TrialOutcome:
    """Return a trial with readings of what its program told, where it told anything.

    Parameters
    ----------
    marks : Path
        The file of lines; it need not be there.
    spans : Path, optional
        A file of spans in OTLP's JSON form.
    """
    data = marks.read_bytes() if marks.exists() else b""
    if not data and spans is None:
        return outcome
    started_ns, length_ns = round(outcome.started_monotonic_s * 1e9), round(outcome.took_s * 1e9)
    offset_ns = round(outcome.started_wall_s * 1e9) - started_ns
    gathered, broken = Spans(), 0
    if spans is not None:
        try:
            text = spans.read_text(encoding="utf-8", errors="replace")
            read_spans(text, gathered, offset_ns, started_ns - _CLOCK_SLACK_NS)
        except (OSError, DataError):
            broken = 1
    told = read_marks(data, started_ns, length_ns, offset_ns, gathered)
    if broken:
        told = replace(told, problems={**told.problems, "the file of spans could not be read": 1})
    told = replace(told, timeline=_nested(told.timeline))
    readings = _phase_readings(told.timeline, whole=not outcome.samples) | _work_readings(told)
    measures = {name: told_measure(name) for name in readings}
    for name, (value, unit, better) in told.readings.items():
        readings[f"reading:{name}"] = value
        measures[f"reading:{name}"] = Measure(f"reading:{name}", name, unit, better)
    summary = {
        "problems": dict(told.problems), "labels": _labelled(told.timeline), "instances": len(told.timeline)
    }  # fmt: skip
    measures = {**outcome.measures, **measures}
    return replace(
        outcome, readings={**outcome.readings, **readings}, measures=measures, told=told, told_summary=summary
    )


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
    open_ones = timeline.around == -2
    if not open_ones.any():
        return timeline
    found = np.where(open_ones, enclosing(timeline.begin_ns, timeline.end_ns, timeline.lane), timeline.around)
    return replace(timeline, around=found)


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


def _work_readings(told: Told) -> dict[str, float]:
    """Return items, and the summary of each stream of intervals."""
    readings = {f"items:{name}": count for name, count in told.items.items()}
    if told.cost_ns:
        readings[MARKS_COST] = told.cost_ns / 1e9
    for name, values in told.intervals.items():
        of = f"interval:{name}"
        readings |= {f"{of}:median": median(values), f"{of}:longest": float(values.max()), f"{of}:count": values.size}
        for part, share in _QUANTILES.items():
            if values.size * (1 - share) >= 2:  # fewer say nothing of the slowest
                readings[f"{of}:{part}"] = quantile(values, share)
        if name in told.deadlines:
            readings[f"{of}:deadline"] = told.deadlines[name]
            readings[f"{of}:missed"] = float(np.mean(values > told.deadlines[name]))
    return {name: float(value) for name, value in readings.items()}
