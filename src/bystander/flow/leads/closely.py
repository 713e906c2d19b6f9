"""Functions that were looked at closely, read back: lines beside their source, counts against known sizes."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from bystander.archive import Archive
from bystander.design import (
    CLOSELY,
    Closely,
    ClosePlace,
    CloseUp,
    GivenLine,
    RecordHead,
    Run,
    TimedCallable,
    Workload,
    inspected_against,
    inspected_place,
    place_label,
    run_name,
)
from bystander.errors import UsageError
from bystander.evidence import against_sizes, content_of, matching_places
from bystander.exchange import within_json
from bystander.flow.leads.edits import source_now
from bystander.flow.leads.kept import newest_runs
from bystander.units import listed, share_text

__all__ = ["close_ups", "closely_json"]

_WORTH = 0.5  # of all calls: so many that were given what another was are worth a sentence
_NAMED = 5
_FEWEST = 2  # calls, of which it can be asked whether they are given the same
Told = tuple[Mapping[str, Any], Closely]


def close_ups(
    archive: Path, record: str | None, only: Sequence[str], arm: str | None, place: str, arguments: bool
) -> list[CloseUp]:
    """Return what was last counted of a function, under each arm in which that was done.

    Parameters
    ----------
    record : str or None
        None for the newest record in which it was.
    only : sequence of str
        Workloads, by their names.
    place : str
        A label, a name, a file or `file:line`; * for any letters.
    arguments : bool
        Whether calls by what they were given are meant, not lines.

    Raises
    ------
    UsageError
        When it was not looked at closely.
    """
    option = "--arguments" if arguments else "--executions"
    with Archive(archive) as kept:
        for head, run in newest_runs(kept, record, CLOSELY):
            if not _is_meant(head, run, only, arm) or (arguments and not run.options.get("arguments")):
                continue
            found = list(_of_run(kept, head, run, arm, place))
            if found:
                return found
    again = f"bystander inspect {option} '{place}' counts that"
    where = f"record {record}" if record else str(archive)
    raise UsageError(f"{option}: {where} holds no such counts of {place}; {again}")


def closely_json(found: Sequence[CloseUp], arguments: bool) -> str:
    """Return the document of what was counted closely."""
    return within_json((), (), (), executions=() if arguments else found, arguments=found if arguments else ())


def _is_meant(head: RecordHead, run: Run, only: Sequence[str], arm: str | None) -> bool:
    workload, last = inspected_place(head, run)
    names = [head.study.arms[one].name for one in (last, inspected_against(head, run)) if one is not None]
    return (not only or head.study.workloads[workload].name in only) and (arm is None or arm in names)


def _of_run(kept: Archive, head: RecordHead, run: Run, arm: str | None, place: str) -> Iterator[CloseUp]:
    told: dict[int, list[Told]] = {}
    try:
        for whose, packet in kept.run_evidence(head.uuid, run.number, CLOSELY):
            told.setdefault(whose.arm, []).append((packet.summary, content_of(packet)))
    except ValueError as error:
        raise UsageError(f"{run_name(head, run)}: {error}") from None
    against = inspected_against(head, run)
    for one in (against, inspected_place(head, run)[1]):
        if one is None or (arm is not None and head.study.arms[one].name != arm):
            continue
        trials = told.get(one, [])
        root = head.arms[one].folder
        met = [place_of.place for _, closely in trials for place_of in closely.places]
        wanted = matching_places(met, place, root)
        for seen in sorted(trials[0][1].places if trials else (), key=lambda seen: -seen.calls):
            if seen.place in wanted:
                yield _close_up(head, run, one, trials, seen)


def _close_up(head: RecordHead, run: Run, arm: int, trials: Sequence[Told], seen: ClosePlace) -> CloseUp:
    others = [next((one for one in closely.places if one.place == seen.place), None) for _, closely in trials[1:]]
    repeats = all(one == seen for one in others) if others else None
    told = trials[0][0].get("items", {})
    items = tuple(sorted((str(name), float(value)) for name, value in told.items() if value > 0))
    study = head.study
    workload = inspected_place(head, run)[0]
    found = CloseUp(
        run_name(head, run), study.workloads[workload].name, study.arms[arm].name, head.arms[arm].folder, seen, repeats,
        (), items,
    )  # fmt: skip
    about = list(trials[0][1].problems[:_NAMED])
    text, limits = source_now(head, run, arm, seen.place.file, "counts")
    about += [limits] if limits else []
    if repeats is False:
        about.append("Two trials told other counts: what does not repeat is no evidence.")
    sizes = {**_sizes(study.workloads[workload]), **dict(items)}
    lines = tuple(_lines(seen, (text or "").splitlines(), sizes))
    return replace(found, lines=lines, sentences=tuple(_sentences(seen)), about=tuple(about))


def _sizes(workload: Workload) -> dict[str, float]:
    """Return the sizes that the study knows: inputs and arguments that are numbers, the lengths of lists and tables."""
    found: dict[str, float] = {}
    given = json.loads(workload.what.values or "{}") if isinstance(workload.what, TimedCallable) else {}
    for name, value in {**workload.inputs, **(given if isinstance(given, dict) else {})}.items():
        if isinstance(value, list | dict):
            found[name] = float(len(value))
            continue
        try:
            found[name] = float(value)
        except (TypeError, ValueError):
            continue
    return {name: size for name, size in found.items() if math.isfinite(size)}


def _lines(seen: ClosePlace, text: Sequence[str], known: Mapping[str, float]) -> Iterator[GivenLine]:
    sizes = {**known, "calls": float(seen.calls)}
    for line, runs in seen.lines:
        told = text[line - 1].rstrip() if 0 < line <= len(text) else ""
        said = "" if runs == seen.calls else against_sizes(runs, sizes)
        yield GivenLine(line, runs, runs / seen.calls if seen.calls else None, told, said)


def _sets(count: int) -> str:
    return "1 distinct set" if count == 1 else f"{count:,} distinct sets"


def _sentences(seen: ClosePlace) -> Iterator[str]:
    """Say what calls by their arguments tell, and what cannot be told apart."""
    if seen.distinct is None or seen.calls < _FEWEST:
        return
    label = place_label(seen.place)
    least = "at least " if seen.more else ""
    yield (
        f"{label}: {seen.calls:,} calls, given {least}{_sets(seen.distinct)} of arguments; the most frequent one "
        f"{'once' if seen.most == 1 else f'{seen.most:,} times'}."
    )
    again = seen.calls - seen.distinct
    if seen.calls and again >= _WORTH * seen.calls and not seen.more:
        yield (
            f"{share_text(again / seen.calls)} of the calls were given what an earlier one was: where what it returns "
            "depends on its arguments alone, keeping that would save them."
        )
    objects = [f"{one.name} ({listed(one.objects, 3)})" for one in seen.parameters if one.objects]
    if objects:
        yield f"Told apart only by which object it is, not by what it holds: {listed(objects, _NAMED)}."
    cut = [one.name for one in seen.parameters if one.cut]
    if cut:
        yield f"Too large to be told apart, so that all such values count as one: {listed(cut, _NAMED)}."
