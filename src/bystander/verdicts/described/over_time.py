"""Which trials are worth seeing over time: the middle one of a workload, and the slowest."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bystander.design import TIMELINE, Given, Record, Status, command_line

__all__ = ["TrialsToSee", "over_time_lines", "rows_over_time", "trials_to_see"]

_MOST_LINES = 8


@dataclass(frozen=True)
class TrialsToSee:
    """Names of trials, as `bystander records show --trial` takes them.

    Attributes
    ----------
    middle : str
        The block whose change is the median of all.
    slowest : str
        The block with the longest trial.
    fastest : str
        The block with the shortest one.
    """

    workload: str
    middle: str
    slowest: str
    fastest: str


def rows_over_time(record: Record) -> list[int]:
    """Return the trials, by their rows, that have phases or samples; first those with phases."""
    marked = [row for row, one in record.summaries(TIMELINE).items() if one.get("instances")]
    return [*marked, *(row for row, _ in record.samples)]


def trials_to_see(record: Record) -> tuple[TrialsToSee, ...]:
    """Return trials of each workload that was told something over time, or sampled."""
    trials, study = record.trials, record.head.study
    shown = sorted({int(trials.workload[row]) for row in rows_over_time(record)})
    if not record.reads("elapsed"):
        return ()
    elapsed = record.column("elapsed")
    found = []
    for w in shown:
        good = (trials.workload == w) & (trials.status == Status.OK) & np.isfinite(elapsed) & (trials.block >= 0)
        if not good.any():
            continue
        blocks = np.unique(trials.block[good])
        table = np.full((blocks.size, len(study.arms)), np.nan)
        table[np.searchsorted(blocks, trials.block[good]), trials.arm[good]] = elapsed[good]
        change = table[:, -1]
        if study.all_comparisons:
            change = table[:, study.all_comparisons[-1].candidate] - table[:, study.all_comparisons[-1].reference]
        known = np.flatnonzero(np.isfinite(change))
        middle = blocks[known[np.argsort(change[known])[known.size // 2]]] if known.size else blocks[0]
        name = study.workloads[w].name
        ends = (np.unravel_index(int(find(table)), table.shape) for find in (np.nanargmax, np.nanargmin))
        slowest, fastest = (f"{name}/{blocks[block]}/{study.arms[arm].name}" for block, arm in ends)
        found.append(TrialsToSee(name, f"{name}/{middle}", slowest, fastest))
    return tuple(found)


def over_time_lines(record: Record, given: Given | None = None) -> list[str]:
    """Return lines that name trials to see over time; none where there is nothing to see."""
    found = trials_to_see(record)
    lines = [f"over time: {one.middle} (the middle), {one.slowest} (the slowest)" for one in found[:_MOST_LINES]]
    if found:
        words = ("records", "show", record.head.name, "--trial", found[0].middle, "--to", "trial.html")
        lines.append(f"one is drawn by:\n  {command_line(*words, given=given or Given())}")
    return lines
