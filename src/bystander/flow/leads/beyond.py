"""Beside what inspections saw: shares that were expected in the study, and guesses from the source of what costs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from bystander.design import (
    PYTHON,
    Account,
    Change,
    Expectation,
    Hint,
    Lead,
    Place,
    PlaceTable,
    Standing,
    expectation_brief,
)
from bystander.evidence import (
    HINTS,
    functions_of,
    hints_in,
    is_library,
    matching_places,
    place_table,
    seconds_by_line,
    share_interval,
    shares_of,
)
from bystander.field import source_text
from bystander.flow.leads.kept import Kept
from bystander.flow.leads.tables import sums_of_state

__all__ = ["expected_of", "hinted", "hints_of", "surprised"]

_RISK = 0.05  # of any interval that misses its share, over all that were expected
_WEIGHS = 0.01  # of the whole: hints are sought in places that take so much, and told of lines that do
_PLACES, _HINTS = 30, 10


def expected_of(kept: Kept, arms: Sequence[int], view: str) -> tuple[Expectation, ...]:
    """Return what the study expected of places beside what they take, under some arms; surprises first."""
    study = kept.head.study
    wanted = study.workloads[kept.workload].expected_share
    level = _RISK / max(1, len(wanted) * len(arms))
    found = []
    for arm in arms:
        trials = [one.stacks for one in kept.trials if one.arm == arm and one.well]
        root = kept.head.arms[arm].folder
        for word, expected in wanted.items():
            places = matching_places({place for one in trials for place in one.places}, word, root)
            seconds, whole = shares_of(trials, view, places)
            share, low, high = share_interval(seconds, whole, level)
            mean, total = (float(values.mean()) if values.size else 0.0 for values in (seconds, whole))
            names = tuple(sorted(places))
            found.append(
                Expectation(word, study.arms[arm].name, names, expected, share, low, high, mean, total, len(trials))
            )
    surprising = {one.word for one in found if one.surprise}
    order = list(wanted)
    return tuple(sorted(found, key=lambda one: (one.word not in surprising, order.index(one.word))))


def surprised(account: Account, expected: Sequence[Expectation]) -> Account:
    """Return an account with what was expected; what the candidate surprises with is a lead."""
    leads = list(account.leads)
    for one in expected:
        if not one.surprise or one.arm != account.arm:
            continue
        changes = {place.place: place for place in account.places}
        known = [changes[place] for place in one.places if place in changes]
        if not known:
            continue
        longest = max(known, key=lambda place: place.whole.after_s)
        at = next((k for k, lead in enumerate(leads) if lead.place == longest.place), None)
        said = expectation_brief(one)
        if at is not None:
            leads[at] = replace(leads[at], surprise=said)
        else:
            calls = longest.calls_before, longest.calls_after
            leads.append(_lead(longest.place, longest.standing, longest.whole, calls, said))
    return replace(account, leads=tuple(leads), expected=tuple(expected))


def _lead(
    place: Place, standing: Standing, seconds: Change, calls: tuple[int | None, int | None], said: str
) -> Lead:  # fmt: skip
    return Lead(place, standing, seconds, calls_before=calls[0], calls_after=calls[1], surprise=said, by_surprise=True)


def hinted(table: PlaceTable, kept: Kept, arm: int) -> PlaceTable:
    """Return the places of one state with what was expected, and with guesses from their source."""
    return replace(
        table, expected=expected_of(kept, [arm], table.view), hints=tuple(hints_of(kept, arm, table.view)[:_HINTS])
    )


def hints_of(kept: Kept, arm: int, view: str) -> list[Hint]:
    """Return guesses from the source of the places of one state that cost, the line that takes most first.

    Only of the program's own files, as they lie there now; what was imported has none here.
    """
    if not kept.head.observed_here:
        return []
    sums = sums_of_state(kept, arm, view)
    least = _WEIGHS * float(sums.spent.sum()) / 1e9 / max(1, sums.trials)
    root = kept.head.arms[arm].folder.rstrip("/") + "/"
    rows = [
        row for row in place_table(sums, (), view, "", "", "").rows
        if row.place.kind == PYTHON and not is_library(row.place) and row.place.file.startswith((root, "./"))
    ]  # fmt: skip
    weighty = sorted((row for row in rows if row.whole_s >= least > 0), key=lambda row: -row.whole_s)
    texts: dict[str, str | None] = {}
    found = []
    for row in weighty[:_PLACES]:
        text = texts.setdefault(row.place.file, source_text(row.place.file))
        if text is not None:
            found += _of_place(row.place, text, seconds_by_line(sums, {row.place})[1], least)
    found.sort(key=lambda one: (-one.seconds, one.line))
    return found


def _of_place(place: Place, text: str, by_line: dict[int, tuple[float, float]], least: float) -> list[Hint]:
    first = {one.first for one in functions_of(text) or () if one.name == place.name}
    nearest = min(first, key=lambda line: abs(line - place.line), default=0)
    found = []
    for one in hints_in(text):
        if one.function != place.name or (first and one.first != nearest):
            continue
        seconds = sum(by_line.get(line, (0.0, 0.0))[0] for line in range(one.line, one.last + 1))
        if seconds >= least:
            said, advice = HINTS[one.kind]
            found.append(Hint(place, one.line, one.kind, said.format(name=one.name), advice, seconds))
    return found
