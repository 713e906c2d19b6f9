"""`bystander records show --trial`: the trials of one block over time, drawn or as spans."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from bystander.archive import Archive
from bystander.design import MARKS_COST, TIMELINE, Record, Status, Timeline
from bystander.errors import UsageError
from bystander.evidence import content_of
from bystander.exchange import spans_json
from bystander.report import Lanes, TrialSide, lanes, trial_page, trial_svg
from bystander.stats import warm_from
from bystander.units import duration_text, share_text
from bystander.verdicts import Decision, rows_over_time

__all__ = ["seen_trials", "trial_over_time"]

_SUFFIXES = (".html", ".svg", ".json")
_MOST_WORKLOADS = 24  # whose trials a report draws; three of each
_MOST_INSTANCES = 20_000  # of a trial that is drawn in a report; a picture of its own takes any number


@dataclass(frozen=True)
class _Asked:
    """Which trial is meant; without an arm all those of its block."""

    workload: int
    block: int
    arm: int | None


def trial_over_time(archive: Path, name: str | None, trial: str, suffix: str) -> str:
    """Return one trial over time, with those of its block under the other arms.

    Parameters
    ----------
    trial : str
        "WORKLOAD/BLOCK" or "WORKLOAD/BLOCK/ARM", as outputs name it.
    suffix : str
        ".html" for a page, ".svg" for the picture alone, ".json" for spans in the form of OTLP.

    Raises
    ------
    UsageError
        When the record has no such trial, or nothing was told of it.
    """
    if suffix not in _SUFFIXES:
        raise UsageError(f'--to: a trial is written as .html, .svg or .json (OTLP spans), not as "{suffix}"')
    with Archive(archive) as kept:
        record = kept.load(name, halves=True)
        asked = _asked(record, trial)
        packets = kept.evidence(record.head.name, TIMELINE, asked.workload, asked.block)
    lines: dict[int, Timeline] = {arm: content_of(packet) for arm, packet in packets.items()}
    arms = _arms(record, asked, lines)
    if suffix == ".json":
        return _spans(record, asked, lines, arms)
    title = f"{record.head.study.workloads[asked.workload].name}, block {asked.block}, record {record.head.name}"
    sides = [_side(record, asked, arm, lines.get(arm)) for arm in arms]
    if suffix == ".svg":
        return trial_svg(title, sides)
    return trial_page(title, sides, [*_marks_cost(record, asked, arms), *record.head.notes])


def seen_trials(archive: Path, decision: Decision) -> dict[str, list[tuple[str, Lanes | None]]]:
    """Return, by workload, its fastest, middle and slowest trials over time, with those of their blocks.

    Of workloads beyond the first 24, and trials of more than 20,000 instances, there is no picture but a name.
    """
    found: dict[str, list[tuple[str, Lanes | None]]] = {}
    if not decision.to_see:
        return found
    first = list(dict.fromkeys(row.workload for row in decision.primary))
    order = sorted(decision.to_see, key=lambda one: first.index(one.workload) if one.workload in first else len(first))
    with Archive(archive) as kept:
        record = kept.load(decision.head.name, halves=True)
        for at, one in enumerate(order):
            named = {one.fastest: "the fastest trial", one.middle: "the middle block", one.slowest: "the slowest trial"}
            for trial, what in named.items():
                picture = _drawn(kept, record, trial) if at < _MOST_WORKLOADS else None
                found.setdefault(one.workload, []).append((f"{what}, {trial}", picture))
    return found


def _drawn(kept: Archive, record: Record, trial: str) -> Lanes | None:
    """Return the picture of a trial, None where it is too large for a report."""
    asked = _asked(record, trial)
    packets = kept.evidence(record.head.name, TIMELINE, asked.workload, asked.block)
    lines: dict[int, Timeline] = {arm: content_of(packet) for arm, packet in packets.items()}
    arms = _arms(record, asked, lines)
    if any(len(lines[arm]) > _MOST_INSTANCES for arm in arms if arm in lines):
        return None
    return lanes([_side(record, asked, arm, lines.get(arm)) for arm in arms])


def _asked(record: Record, trial: str) -> _Asked:
    study = record.head.study
    arms = [arm.name for arm in study.arms]
    names = [one.name for one in study.workloads]
    # Names are compared, not taken apart: one that was imported may hold a slash of its own.
    meant = [name for name in names if trial.startswith(f"{name}/")]
    workload = max(meant, key=len, default="")
    number, slash, arm_name = trial[len(workload) + 1 :].partition("/")
    if not meant or not number.isdecimal() or (slash and arm_name not in arms):
        example = _example(record)
        raise UsageError(
            f'--trial: "{trial}" is no trial of record {record.head.name}; write WORKLOAD/BLOCK or '
            f"WORKLOAD/BLOCK/ARM, for example {example}"
        )
    asked = _Asked(names.index(workload), int(number), arms.index(arm_name) if slash else None)
    if not _rows(record, asked).any():
        raise UsageError(f"--trial: record {record.head.name} has no block {number} of {workload}")
    return asked


def _example(record: Record) -> str:
    trials = record.trials
    row = next(iter(rows_over_time(record)), 0)
    if not len(trials):
        return "year/0"
    return f"{record.head.study.workloads[trials.workload[row]].name}/{trials.block[row]}"


def _rows(record: Record, asked: _Asked) -> NDArray[np.bool_]:
    trials = record.trials
    found: NDArray[np.bool_] = (trials.workload == asked.workload) & (trials.block == asked.block)
    return found


def _row(record: Record, asked: _Asked, arm: int) -> int:
    """Return the row of the block's trial under an arm."""
    return int(np.flatnonzero(_rows(record, asked) & (record.trials.arm == arm))[0])


def _arms(record: Record, asked: _Asked, lines: dict[int, Timeline]) -> list[int]:
    """Return the arms to draw: the one that is named with what it is compared with, or all."""
    rows = np.flatnonzero(_rows(record, asked))
    sampled = {int(record.trials.arm[row]) for row in rows.tolist() if (row, "elapsed") in record.samples}
    there = sorted({arm for arm, line in lines.items() if len(line)} | sampled)
    compared = {one.reference for one in record.head.study.all_comparisons if one.candidate == asked.arm}
    wanted = [arm for arm in there if asked.arm is None or arm == asked.arm or arm in compared]
    if not wanted or (asked.arm is not None and asked.arm not in wanted):
        raise UsageError(
            "--trial: its program marked no phases and no samples were taken, so there is nothing to draw; "
            "docs/marks.md tells how phases are marked"
        )
    return wanted


def _side(record: Record, asked: _Asked, arm: int, line: Timeline | None) -> TrialSide:
    trials = record.trials
    row = _row(record, asked, arm)
    elapsed = float(record.column("elapsed")[row])
    samples = record.samples.get((row, "elapsed"))
    heading = duration_text(elapsed) + (" an iteration" if samples is not None else "")
    if trials.status[row] != Status.OK:
        heading += f", {Status(int(trials.status[row])).text}"
    values = () if samples is None else tuple(samples.tolist())
    warm = 0 if samples is None else warm_from(samples)
    return TrialSide(record.head.study.arms[arm].name, heading, line, values, warm, elapsed)


def _marks_cost(record: Record, asked: _Asked, arms: list[int]) -> list[str]:
    """Say what the marks themselves took, by the program's own measurement."""
    if not record.reads(MARKS_COST):
        return []
    texts = []
    for arm in arms:
        row = _row(record, asked, arm)
        cost, elapsed = (float(record.column(name)[row]) for name in (MARKS_COST, "elapsed"))
        if cost > 0 and elapsed > 0:
            texts.append(f"{record.head.study.arms[arm].name} {duration_text(cost, 2)} ({share_text(cost / elapsed)})")
    return [f"Marking the phases took about: {', '.join(texts)}."] if texts else []


def _spans(record: Record, asked: _Asked, lines: dict[int, Timeline], arms: list[int]) -> str:
    """Return one document a line, one for each arm."""
    study, documents = record.head.study, []
    for arm in arms:
        line = lines.get(arm)
        if line is None:
            continue
        row = _row(record, asked, arm)
        started_s = float(np.nan_to_num(record.trials.started_s[row]))
        title = f"{study.workloads[asked.workload].name}/{asked.block}/{study.arms[arm].name}"
        trace = hashlib.sha256(f"{record.head.uuid} {title}".encode()).hexdigest()[:32]
        documents.append(spans_json(line, trace, round(started_s * 1e9), title))
    if not documents:
        raise UsageError("--trial: its program marked no phases, so there are no spans to write")
    return "".join(documents)
