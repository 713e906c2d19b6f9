"""`bystander leads`: where the time of an inspected state went, from what is kept; nothing is run."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from bystander.archive import Archive
from bystander.design import (
    COUNTED,
    COUNTS,
    ORDERS_OF_PLACES,
    STACKS,
    UNWATCHED,
    VIEWS,
    Counts,
    Evidence,
    PlaceRow,
    PlaceTable,
    RecordHead,
    Run,
    Stacks,
    State,
    chosen_names,
    inspected_place,
    inspections,
    run_name,
)
from bystander.errors import UsageError
from bystander.evidence import Sums, content_of, count_sentences, place_table, sums_of, watching_cost
from bystander.exchange import paths_csv, places_json
from bystander.units import counted, duration_text, listed, share_text

__all__ = ["Wanted", "leads_file", "leads_table", "places_json"]

_PERCENT = 0.01


@dataclass(frozen=True)
class Wanted:
    """What of an inspection is asked for.

    Attributes
    ----------
    only, arm : str or None
        The workload and the arm, where a record has inspections of several.
    """

    only: str | None = None
    arm: str | None = None
    view: str = VIEWS[0]
    order: str = ORDERS_OF_PLACES[0]

    def __post_init__(self) -> None:
        for option, word, known in (("--view", self.view, VIEWS), ("--order", self.order, ORDERS_OF_PLACES)):
            if word not in known:
                raise UsageError(f'{option}: "{word}" is none; there are {", ".join(known)}')


@dataclass(frozen=True)
class _Kept:
    """What is kept of one inspection."""

    head: RecordHead
    run: Run
    workload: int
    arm: int
    stacks: Sequence[tuple[Mapping[str, Any], Stacks]]
    pairs: Sequence[tuple[float, float]]
    counts: Sequence[tuple[Mapping[str, Any], Counts]]

    @property
    def name(self) -> str:
        return run_name(self.head, self.run)


def leads_table(archive: Path, record: str | None, wanted: Wanted, number: int | None = None) -> PlaceTable:
    """Return where the time went, in order.

    Parameters
    ----------
    record : str or None
        A record, which means its newest finished inspection, or an inspection by its name, such as tides-3/inspected-2;
        None for the newest record that has one.
    number : int, optional
        Of the inspection's run in that record.

    Raises
    ------
    UsageError
        When there is no such inspection.
    """
    kept = _kept(archive, record, wanted, number)
    return _table(kept, wanted)


def leads_file(archive: Path, record: str | None, wanted: Wanted, suffix: str) -> str:
    """Return the same as a file: .csv with one row a path, or .json."""
    if suffix not in (".csv", ".json"):
        raise UsageError(f'--to: leads are written as .csv or .json, not as "{suffix}"')
    kept = _kept(archive, record, wanted, None)
    return paths_csv(_sums(kept, wanted.view)) if suffix == ".csv" else places_json(_table(kept, wanted), wanted.order)


def _sums(kept: _Kept, view: str) -> Sums:
    well = [stacks for summary, stacks in kept.stacks if summary["status"] == "ok"]
    return sums_of(well or [stacks for _, stacks in kept.stacks], view)


def _table(kept: _Kept, wanted: Wanted) -> PlaceTable:
    study = kept.head.study
    counts = [content for _, content in kept.counts]
    table = place_table(
        _sums(kept, wanted.view), counts, wanted.view, study.workloads[kept.workload].name, study.arms[kept.arm].name,
        kept.name,
    )  # fmt: skip
    table = replace(
        table, cost=watching_cost(list(kept.pairs))[0] if kept.pairs else None, root=kept.head.arms[kept.arm].folder
    )
    sentences, about = tuple(count_sentences(kept.counts, table)), (*_watching(kept), *_unseen(kept))
    rows = tuple(sorted(table.rows, key=_ORDERS[wanted.order]))
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


def _watching(kept: _Kept) -> list[str]:
    """Say what watching cost, and how well was seen."""
    summaries = [summary for summary, _ in kept.stacks]
    if not summaries:
        return []
    sentences = []
    if kept.pairs:
        ratio, between = watching_cost(list(kept.pairs))
        single = [watched / bare for watched, bare in kept.pairs]
        how = (
            f"{between[0]:.3f} to {between[1]:.3f}"
            if between
            else f"{min(single):.3f} to {max(single):.3f} in single pairs"
        )
        pairs = counted(len(kept.pairs), "pair of trials", "pairs of trials")
        alone = len(single) == 1
        between_text = "" if alone else f" ({how})"
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


def _unseen(kept: _Kept) -> list[str]:
    """Say what was not seen, and how the trials ended."""
    sentences = [str(kept.run.options["lost"])] if kept.run.options.get("lost") else []
    problems: Counter[str] = Counter()
    for summary, _ in kept.stacks:
        problems.update(summary["problems"])
    for problem, times in sorted(problems.items())[:6]:
        sentences.append(f"Not seen from inside, {problem} ({counted(times, 'process', 'processes')}).")
    for summary, _ in kept.stacks:
        if summary.get("said"):
            sentences.append(f"It said at its end: {summary['said']}")
            break
    ends = Counter(summary["status"] for summary, _ in kept.stacks if summary["status"] != "ok")
    for how, times in ends.items():
        how = {"cut": "was cut at its limit", "invalid": "was stopped"}.get(
            how, f"ended with {how}, which is no good end"
        )
        sentences.append(f"{counted(times, 'watched trial')} {how}; what was seen until then is shown.")
    return sentences


def _kept(archive: Path, record: str | None, wanted: Wanted, number: int | None) -> _Kept:
    name, _, run = (record or "").partition("/")
    with Archive(archive) as kept:
        heads = [kept.head(name)] if name else _newest_first(kept)
        found = [(head, one) for head in heads for one in reversed(_runs(head, wanted, run, number))]
        for head, one in found:
            told = _of_run(kept, head, one)
            if told.stacks or told.counts:
                return told
        if not found:
            raise UsageError(_nothing(heads[0], wanted, run))
    raise UsageError(f"{run_name(*found[0])} ended before anything was seen; inspect it again")


def _newest_first(kept: Archive) -> list[RecordHead]:
    """Return the records that have inspections, the newest of these first, and finished ones before all others."""

    def key(head: RecordHead) -> tuple[bool, float]:
        runs = inspections(head)
        return any(run.state != State.RUNNING for run in runs), max(run.began_wall_s or 0 for run in runs)

    inspected = sorted((head for head in kept.heads() if inspections(head)), key=key, reverse=True)
    return inspected or [kept.head(None)]


def _runs(head: RecordHead, wanted: Wanted, run: str, number: int | None) -> list[Run]:
    """Return the inspections that are meant, the oldest first; unfinished ones before all others."""
    found = inspections(head)
    if number is not None:
        return [one for one in found if one.number == number]
    if run:
        return [one for one in found if run_name(head, one).partition("/")[2] == run]
    study = head.study
    if wanted.only is not None:
        names = chosen_names(study.workloads, [wanted.only], f"record {head.name}")
        found = [one for one in found if study.workloads[inspected_place(head, one)[0]].name in names]
    if wanted.arm is not None:
        found = [one for one in found if study.arms[inspected_place(head, one)[1]].name == wanted.arm]
    return sorted(found, key=lambda one: (one.state != State.RUNNING, one.number))


def _nothing(head: RecordHead, wanted: Wanted, run: str) -> str:
    there = [run_name(head, one) for one in inspections(head)]
    if not there:
        makes = f"bystander inspect {head.name} --only WORKLOAD --arm NAME makes one"
        return f"record {head.name} has no inspection yet; {makes}"
    options = (("--only", wanted.only), ("--arm", wanted.arm))
    asked = run or " ".join(f"{option} {word}" for option, word in options if word)
    return f"record {head.name} has no inspection {asked}; it has {listed(there, 6)}"


def _of_run(kept: Archive, head: RecordHead, run: Run) -> _Kept:
    told: dict[str, list[Evidence]] = {STACKS: [], UNWATCHED: [], COUNTS: []}
    counting = [one for one in head.runs if one.purpose == COUNTED and one.options.get("inspection") == run.number]
    for number in (run.number, *(one.number for one in counting[-1:])):
        for _, packet in kept.run_evidence(head.uuid, number):
            told.setdefault(packet.kind, []).append(packet)
    workload, arm = inspected_place(head, run)
    try:
        stacks = [(one.summary, content_of(one)) for one in told[STACKS]]
        counts = [(one.summary, content_of(one)) for one in told[COUNTS]]
        pairs = [pair for one in told[UNWATCHED] for pair in content_of(one)]
    except ValueError as error:
        raise UsageError(f"{run_name(head, run)}: {error}") from None
    return _Kept(head, run, workload, arm, stacks, pairs, counts)
