"""One state of a workload: the table of its places, from what is kept of an inspection."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from bystander.design import PlaceRow, PlaceTable
from bystander.evidence import Sums, count_sentences, place_table, sums_of, watching_cost
from bystander.flow.leads.kept import Kept
from bystander.units import counted, duration_text, share_text

__all__ = ["sums_of_state", "table_of_state"]

_PERCENT = 0.01


def sums_of_state(kept: Kept, arm: int, view: str) -> Sums:
    """Return the time of each node over the trials of one arm, those that came to a good end where there are any."""
    trials = [trial for trial in kept.trials if trial.arm == arm]
    well = [trial.stacks for trial in trials if trial.well]
    return sums_of(well or [trial.stacks for trial in trials], view)


def table_of_state(kept: Kept, arm: int, view: str, order: str) -> PlaceTable:
    """Return the places of one arm, in order."""
    study = kept.head.study
    told = kept.counts.get(arm, [])
    bare = kept.bare.get(arm, [])
    table = place_table(
        sums_of_state(kept, arm, view), [content for _, content in told], view, kept.workload_name,
        study.arms[arm].name, kept.name,
    )  # fmt: skip
    table = replace(table, cost=watching_cost(bare)[0] if bare else None, root=kept.head.arms[arm].folder)
    sentences, about = tuple(count_sentences(told, table)), (*_watching(kept, arm), *_unseen(kept, arm))
    rows = tuple(sorted(table.rows, key=_ORDERS[order]))
    return replace(table, rows=rows, sentences=sentences, about=about)


def _last(number: float | None) -> float:
    """Return what a larger number comes first by; what is not known comes last."""
    return -number if number is not None and number == number else 1.0


_ORDERS: dict[str, Callable[[PlaceRow], Any]] = {
    "whole": lambda row: (_last(row.whole_s), row.depth, _last(row.alone_s), -(row.calls or 0), row.label),
    "alone": lambda row: (_last(row.alone_s), _last(row.whole_s), row.depth, -(row.calls or 0), row.label),
    "calls": lambda row: (-(row.calls or 0), _last(row.whole_s), row.label),
    "per-call": lambda row: (_last(row.per_call_s), _last(row.whole_s), row.label),
}


def _watching(kept: Kept, arm: int) -> list[str]:
    """Say what watching cost, and how well was seen."""
    summaries, bare = [trial.summary for trial in kept.trials if trial.arm == arm], kept.bare.get(arm, [])
    if not summaries:
        return []
    sentences = []
    if bare:
        ratio, between = watching_cost(bare)
        single = [watched / alone for watched, alone in bare]
        how = (
            f"{between[0]:.3f} to {between[1]:.3f}"
            if between
            else f"{min(single):.3f} to {max(single):.3f} in single pairs"
        )
        pairs = counted(len(bare), "pair of trials", "pairs of trials")
        between_text = "" if len(single) == 1 else f" ({how})"
        sentences.append(f"A watched trial took {ratio:.3f} of the time of an unwatched one{between_text}, by {pairs}.")
    unwatched = [summary["unwatched_s"] for summary in summaries if summary["unwatched_s"] is not None]
    if unwatched:
        sentences.append(
            f"Python ran {duration_text(max(unwatched), 2)}, at most, before its first frame could be read."
        )
    ticks, missed = (sum(summary[key] for summary in summaries) for key in ("ticks", "missed"))
    if ticks and missed / ticks > 5 * _PERCENT:
        sentences.append(
            f"The recorder fell behind: {share_text(missed / ticks)} of {ticks} ticks were not read; "
            "a longer --tick helps."
        )
    if lost := sum(summary["lost"] for summary in summaries):
        sentences.append(f"{counted(lost, 'record')} of the kernel were lost: times of threads may be short of that.")
    readings = sum(summary["readings"] for summary in summaries)
    if readings < 200:
        sentences.append(f"Only {counted(readings, 'reading')}: seconds of small places are hardly known.")
    return sentences


def _unseen(kept: Kept, arm: int) -> list[str]:
    """Say what was not seen, and how the trials ended."""
    sentences = [str(kept.run.options["lost"])] if kept.run.options.get("lost") else []
    problems: Counter[str] = Counter()
    summaries = [trial.summary for trial in kept.trials if trial.arm == arm]
    for summary in summaries:
        problems.update(summary["problems"])
    for problem, times in sorted(problems.items())[:6]:
        sentences.append(f"Not seen from inside, {problem} ({counted(times, 'process', 'processes')}).")
    for summary in summaries:
        if summary.get("said"):
            sentences.append(f"It said at its end: {summary['said']}")
            break
    ends = Counter(summary["status"] for summary in summaries if summary["status"] != "ok")
    for how, times in ends.items():
        how = {"cut": "was cut at its limit", "invalid": "was stopped"}.get(
            how, f"ended with {how}, which is no good end"
        )
        sentences.append(f"{counted(times, 'watched trial')} {how}; what was seen until then is shown.")
    return sentences
