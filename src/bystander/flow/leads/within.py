"""Going into inspections that are kept: parts of them, neighbours of a place, the way down, a place line by line."""

from __future__ import annotations

import difflib
import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from bystander.design import (
    PYTHON,
    VIEWS,
    Beside,
    BesideRow,
    Down,
    LineOf,
    LinesOf,
    Neighbours,
    Place,
    PlaceRow,
    PlaceTable,
    place_key,
    place_label,
)
from bystander.errors import UsageError
from bystander.evidence import (
    Both,
    Narrowing,
    functions_of,
    is_importing,
    is_library,
    matching_places,
    narrowed_counts,
    narrowed_stacks,
    neighbours_of_both,
    neighbours_of_one,
    seconds_by_line,
    way_down,
)
from bystander.flow.leads.accounts import asked_of, seen_of
from bystander.flow.leads.edits import source_now
from bystander.flow.leads.kept import Kept
from bystander.flow.leads.tables import sums_of_state, table_of_state
from bystander.units import capital, duration_text, either, listed

__all__ = [
    "LIBRARIES",
    "Part",
    "beside_of",
    "down_of",
    "lines_of",
    "lines_of_places",
    "narrowed",
    "neighbours_of",
    "places_in_question",
    "places_of",
]

LIBRARIES = ("apart", "with-callers")
_NAMED, _LIKE = 6, 3
_FUNCTIONS, _WEIGHTY = 5, 0.02  # whose lines a page shows, and the share of the whole from which one is worth it
_LINES = 60  # of a function whose end is not known


@dataclass(frozen=True)
class Part:
    """Which part of what was seen is meant.

    Attributes
    ----------
    under : str or None
        A place, or a pattern: only what lies under it.
    without : tuple of str
        Places that are left out with all that lies under them.
    imports : str or None
        Among `LIBRARIES`: whether what runs while modules are imported counts with who imports them.
    libraries : str or None
        Among `LIBRARIES`; None for the first.
    """

    under: str | None = None
    without: tuple[str, ...] = ()
    libraries: str | None = None
    imports: str | None = None

    def __post_init__(self) -> None:
        for option, word in (("--libraries", self.libraries), ("--imports", self.imports)):
            if word not in (None, *LIBRARIES):
                raise UsageError(f'{option}: "{word}" is none; it is {either(LIBRARIES)}')

    @property
    def whole(self) -> bool:
        """Whether nothing is left out or taken together."""
        apart = self.libraries in (None, LIBRARIES[0]) and self.imports in (None, LIBRARIES[0])
        return not self.under and not self.without and apart


def narrowed(kept: Kept, part: Part, view: str) -> tuple[Kept, tuple[str, ...]]:
    """Return the part of an inspection that is meant, and sentences on what is left out.

    Raises
    ------
    UsageError
        When there is no such place.
    """
    if part.whole:
        return kept, ()
    arms = [arm for arm in (kept.against, kept.arm) if arm is not None]
    under = {arm: _places(kept, [arm], part.under) if part.under else None for arm in arms}
    if part.under and not any(under.values()):
        raise _unknown(kept, arms, "--under", part.under)
    without: dict[int, set[Place]] = {arm: set() for arm in arms}
    for pattern in part.without:
        met = {arm: _places(kept, [arm], pattern) for arm in arms}
        if not any(met.values()):
            raise _unknown(kept, arms, "--without", pattern)
        without = {arm: without[arm] | met[arm] for arm in arms}
    tests = [is_library] if part.libraries == LIBRARIES[1] else []
    tests += [is_importing] if part.imports == LIBRARIES[1] else []
    by = {}
    for arm in arms:
        inside = under[arm]
        by[arm] = Narrowing(None if inside is None else inside.__contains__, without[arm].__contains__, _any(tests))
    trials = [replace(one, stacks=narrowed_stacks(one.stacks, by[one.arm])) for one in kept.trials]
    counts = {
        arm: [(summary, narrowed_counts(one, under[arm], without[arm])) for summary, one in told]
        for arm, told in kept.counts.items()
    }
    found = replace(kept, trials=trials, counts=counts)
    return found, tuple(_said(kept, found, part, arms, view))


def _any(tests: Sequence[Callable[[Place], bool]]) -> Callable[[Place], bool] | None:
    return (lambda place: any(test(place) for test in tests)) if tests else None


def _said(kept: Kept, found: Kept, part: Part, arms: Sequence[int], view: str) -> Iterable[str]:
    """Say which part is shown, and of how much."""
    if part.under or part.without:
        words = [f"only what lies under {part.under}"] if part.under else []
        words += [f"without {listed(part.without, _NAMED)}"] if part.without else []
        each = []
        for arm in arms:
            whole, left = (_seconds(one, arm, view) for one in (kept, found))
            name = f" under {kept.head.study.arms[arm].name}" if len(arms) > 1 else ""
            each.append(f"{duration_text(left, 3)} of {duration_text(whole, 3)} a trial{name}")
        text = ", ".join(words)
        yield f"{capital(text)}: {', '.join(each)}."
        if part.under and any(found.counts.values()):
            yield "Calls are those of the whole trial: what is called from elsewhere too is counted whole."
    if part.libraries == LIBRARIES[1]:
        yield "Libraries count with the place of the program that calls them."
    if part.imports == LIBRARIES[1]:
        yield "What runs while modules are imported counts with the place that imports them."


def _seconds(kept: Kept, arm: int, view: str) -> float:
    sums = sums_of_state(kept, arm, view)
    return float(sums.spent.sum()) / 1e9 / max(1, sums.trials)


def _all_places(kept: Kept, arms: Sequence[int]) -> list[tuple[Place, str]]:
    """Return every place that was met in some arms, with the arm's folder."""
    found: dict[tuple[Place, str], None] = {}
    for arm in arms:
        root = kept.head.arms[arm].folder
        found |= {(place, root): None for one in kept.trials if one.arm == arm for place in one.stacks.places}
        found |= {(place, root): None for _, one in kept.counts.get(arm, []) for place in one.places}
    return list(found)


def places_of(kept: Kept, pattern: str) -> set[Place]:
    """Return the places of an inspection, in whichever of its arms, that a word means."""
    return _places(kept, [arm for arm in (kept.against, kept.arm) if arm is not None], pattern)


def _places(kept: Kept, arms: Sequence[int], pattern: str) -> set[Place]:
    """Return the places of some arms that a word means."""
    found: set[Place] = set()
    for arm in arms:
        mine = _all_places(kept, [arm])
        found |= matching_places((place for place, _ in mine), pattern, kept.head.arms[arm].folder)
    return found


def _unknown(kept: Kept, arms: Sequence[int], option: str, pattern: str) -> UsageError:
    labels = sorted({place_label(place) for place, _ in _all_places(kept, arms)})
    near = difflib.get_close_matches(pattern, labels, _LIKE, 0.5) or [one for one in labels if pattern in one][:_LIKE]
    hint = f"; did you mean {' or '.join(near)}?" if near else "; bystander leads --all lists them all"
    return UsageError(f'{option}: {kept.name} met no place "{pattern}"{hint}')


def neighbours_of(kept: Kept, arm: int | None, view: str | None, pattern: str, above: bool) -> Neighbours:
    """Return who calls a place, or what it calls, in both arms, or in one that is named.

    Raises
    ------
    UsageError
        When there is no such place.
    """
    head, study = kept.head, kept.head.study
    arms = [kept.against or 0, kept.arm] if arm is None else [arm]
    wanted = [_places(kept, [one], pattern) for one in arms]
    if not any(wanted):
        raise _unknown(kept, arms, "--above" if above else "--below", pattern)
    if arm is None:
        asked = asked_of(kept, view)
        whole, rows = neighbours_of_both(Both(seen_of(kept), asked), (wanted[0], wanted[1]), above)
        view = asked.view
    else:
        view = view or VIEWS[0]
        counts = [one for _, one in kept.counts.get(arm, [])]
        whole, rows = neighbours_of_one(sums_of_state(kept, arm, view), counts, wanted[0], above)
    places = tuple(sorted(set().union(*wanted)))
    names, roots = tuple(study.arms[one].name for one in arms), tuple(head.arms[one].folder for one in arms)
    return Neighbours(kept.name, kept.workload_name, view, above, places, names, whole, rows, roots)


def down_of(kept: Kept, arms: Sequence[int], view: str) -> list[Down]:
    """Return the way to where the time is spent, for each of some arms."""
    found = []
    for arm in arms:
        steps, alone, total = way_down(sums_of_state(kept, arm, view))
        name = kept.head.study.arms[arm].name
        found.append(Down(kept.name, kept.workload_name, name, view, steps, alone, total))
    return found


def lines_of(kept: Kept, arms: Sequence[int], view: str, pattern: str) -> list[LinesOf]:
    """Return one function line by line, for each of some arms in which it was met.

    Raises
    ------
    UsageError
        When there is no such place, several, or one without lines.
    """
    met = {arm: _places(kept, [arm], pattern) for arm in arms}
    if not any(met.values()):
        raise _unknown(kept, arms, "--lines", pattern)
    labels = sorted({place_label(place) for places in met.values() for place in places})
    if len(labels) > 1:
        raise UsageError(f'--lines: "{pattern}" means {len(labels)} places; name one: {listed(labels, _NAMED)}')
    found = [_lines(kept, arm, sorted(places)[0], places, view) for arm, places in met.items() if places]
    if not any(one.lines for one in found):
        raise UsageError(
            f"--lines: no reading of {labels[0]} tells a line; it has calls only, or is no function of Python"
        )
    return found


def places_in_question(table: PlaceTable) -> list[Place]:
    """Return the places of one state whose lines one would read first: those that take most by themselves."""
    weighty = [row for row in table.rows if row.place.kind == PYTHON and row.alone_s >= _WEIGHTY * table.elapsed_s]
    return [row.place for row in sorted(weighty, key=lambda row: -row.alone_s)]


def lines_of_places(kept: Kept, arms: Sequence[int], view: str, places: Iterable[Place]) -> list[LinesOf]:
    """Return the first few of some places line by line, under each arm in which they were met."""
    found: list[LinesOf] = []
    shown = 0
    for place in places:
        key = place_key(place, [kept.head.arms[arm].folder for arm in arms])
        mine = []
        for arm in arms:
            root = kept.head.arms[arm].folder
            like = {one for one, _ in _all_places(kept, [arm]) if place_key(one, (root,)) == key}
            if like and place.kind == PYTHON:
                lines = _lines(kept, arm, sorted(like)[0], like, view)
                mine += [lines] if lines.lines else []
        found += mine
        shown += bool(mine)
        if shown == _FUNCTIONS:
            break
    return found


def _lines(kept: Kept, arm: int, place: Place, places: set[Place], view: str) -> LinesOf:
    whole, by_line = seconds_by_line(sums_of_state(kept, arm, view), places)
    text, about = source_now(kept.head, kept.run, arm, place.file, "seconds")
    seen = [line for line in by_line if line > 0]
    first, last = _span(text, place) if text is not None else (min(seen, default=0), max(seen, default=0))
    source = tuple(text.splitlines()[first - 1 : last]) if text is not None else ()
    lines = tuple(
        LineOf(line, *seconds, source[line - first] if first <= line < first + len(source) else None)
        for line, seconds in by_line.items()
        if line > 0
    )
    name, root = kept.head.study.arms[arm].name, kept.head.arms[arm].folder
    return LinesOf(kept.name, kept.workload_name, name, place, root, first, last, whole, lines, source, about)


def _span(text: str, place: Place) -> tuple[int, int]:
    """Return the first and last line of a function; some lines from its first on where the file cannot be read."""
    count = max(1, text.count("\n") + (not text.endswith("\n")))
    mine = [one for one in functions_of(text) or () if one.name == place.name]
    for one in sorted(mine, key=lambda one: abs(one.first - place.line)):
        return one.first, min(count, one.last)
    return max(1, place.line), min(count, place.line + _LINES)


def beside_of(now: tuple[Kept, int], then: tuple[Kept, int], view: str) -> Beside:
    """Return one arm of an inspection beside one of another: calls exactly, seconds as of different hours.

    Raises
    ------
    UsageError
        When they are of different workloads, or one was looked at more deeply than the other.
    """
    (kept, arm), (other, other_arm) = now, then
    names = [f"{one.name} under {one.head.study.arms[at].name}" for one, at in (then, now)]
    if (kept.head.uuid, kept.run.number, arm) == (other.head.uuid, other.run.number, other_arm):
        raise UsageError(f"--beside: {names[1]} is the same on both sides; name an inspection of another hour")
    if kept.workload_name != other.workload_name:
        raise UsageError(f"--beside: {names[0]} is of {other.workload_name}, {names[1]} of {kept.workload_name}")
    ways = [(one.run.options.get("way"), one.run.options.get("tick_s")) for one in (other, kept)]
    if ways[0][0] != ways[1][0]:
        raise UsageError(f"--beside: {names[0]} was watched by {ways[0][0]}, {names[1]} by {ways[1][0]}; inspect alike")
    tables = [table_of_state(one, at, view, "whole") for one, at in (then, now)]
    if (tables[0].calls is None) != (tables[1].calls is None):
        deep, shallow = names if tables[1].calls is None else names[::-1]
        raise UsageError(f"--beside: calls were counted in {deep} and not in {shallow}; inspect --counts does it again")
    roots = other.head.arms[other_arm].folder, kept.head.arms[arm].folder
    by_key: dict[tuple[str, str], list[PlaceRow | None]] = {}
    for side, table in enumerate(tables):
        for row in table.rows:
            by_key.setdefault(place_key(row.place, (roots[side],)), [None, None])[side] = row
    rows = [_beside(before, after) for before, after in by_key.values()]
    rows.sort(key=lambda row: (not row.differs, -np.nanmax([row.then_s, row.now_s, 0.0]), -(row.calls_now or 0)))
    return Beside(
        kept.workload_name, view, names[0], names[1], tables[0].elapsed_s, tables[1].elapsed_s, tuple(rows),
        tables[0].calls is not None, roots,
    )  # fmt: skip


def _beside(before: PlaceRow | None, after: PlaceRow | None) -> BesideRow:
    seconds = [row.whole_s if row else math.nan for row in (before, after)]
    counted = any(row is not None and row.calls is not None for row in (before, after))
    steady = all(row is None or row.repeats for row in (before, after))
    calls = [(row.calls or 0) if row else 0 for row in (before, after)] if counted and steady else [None, None]
    place = next(row.place for row in (after, before) if row)
    return BesideRow(place, seconds[0], seconds[1], calls[0], calls[1])
