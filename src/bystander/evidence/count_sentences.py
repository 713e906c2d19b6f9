"""What exact counts say by themselves: calls for each item, and for each call of the caller."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from bystander.design import LIBRARY, PYTHON, Counts, Place, PlaceTable, place_label
from bystander.units import counted

__all__ = ["OPENING", "count_sentences"]

_MOST = 3
_FEWEST_CALLS = 20  # of what is called several times an item: fewer cost nothing
# Built-ins that open a file, a socket or a database, or start a process.
OPENING = {"open", "_io.open", "io.open", "posix.open", "_sqlite3.connect", "sqlite3.connect", "posix.fork"}
_SHARE = 0.005  # of the whole: a smaller place is no lead


def count_sentences(kept: Sequence[tuple[Mapping[str, Any], Counts]], table: PlaceTable) -> list[str]:
    """Say whether the counts repeat, what they leave out, and which places are called oftener than there are items."""
    if not kept:
        return []
    summary, counts = kept[0]
    sentences = []
    if table.repeats is False:
        others = sum(1 for row in table.rows if not row.repeats)
        places = counted(sum(1 for row in table.rows if row.calls is not None), "place")
        sentences.append(
            f"Between two counting trials the calls of {others} of {places} differ: marked ~, and no evidence."
        )
    elif table.repeats is None:
        sentences.append("Calls were counted once only, so it is not known whether they repeat.")
    sentences += [f"Counting: {problem}." for problem in counts.problems[:3]]
    items = {name: value for name, value in summary.get("items", {}).items() if value > 0}
    weighty = {row.place for row in table.rows if row.whole_s >= _SHARE * table.elapsed_s and _own(row.place, table)}
    sentences += [*_by_item(table, weighty, items), *_opened([one for _, one in kept], table, items)] if items else []
    return sentences


def _own(place: Place, table: PlaceTable) -> bool:
    """Whether a place is a function of the program itself, not of a library."""
    root = table.root.rstrip("/") + "/" if table.root else ""
    return place.kind == PYTHON and not LIBRARY.search(place.file) and place.file.startswith((root, "./"))


def _opened(kept: Sequence[Counts], table: PlaceTable, items: Mapping[str, float]) -> list[str]:
    """Say what a place of the program opens or starts again for each item, where all counting trials agree on it."""
    sums, *others = [_openings(counts, table) for counts in kept]
    found = []
    for (caller, opened), calls in sums.items():
        if any(one.get((caller, opened)) != calls for one in others):
            continue
        for name, count in items.items():
            each = calls / count
            if calls >= _FEWEST_CALLS and each >= 1 and abs(each - round(each)) < 0.02 * each:
                often = "once" if round(each) == 1 else f"{round(each):,} times"
                said = f"{place_label(caller)} calls {opened} {often} for each of {count:,.0f} {name}: {calls:,} times."
                found.append((calls, said))
    return [sentence for _, sentence in sorted(found, reverse=True)[:_MOST]]


def _openings(counts: Counts, table: PlaceTable) -> dict[tuple[Place, str], int]:
    """Return how often each place of the program calls what opens or starts something."""
    sums: dict[tuple[Place, str], int] = {}
    for edge in counts.edges:
        name = counts.places[edge.callee].name
        if name in OPENING and edge.caller >= 0 and _own(counts.places[edge.caller], table):
            key = counts.places[edge.caller], name
            sums[key] = sums.get(key, 0) + edge.calls
    return sums


def _by_item(table: PlaceTable, weighty: set[Place], items: Mapping[str, float]) -> list[str]:
    """Say which places are called several times for each item that the program tells."""
    found = []
    for row in table.rows:
        if row.place not in weighty or not row.calls or not row.repeats or row.calls < _FEWEST_CALLS:
            continue
        for name, count in items.items():
            each = row.calls / count
            if each >= 1.5 and abs(each - round(each)) < 0.02 * each:
                found.append(
                    (row.whole_s, f"{row.label} is called {round(each):,} times for each of {count:,.0f} {name}.")
                )
    return [sentence for _, sentence in sorted(found, reverse=True)[:_MOST]]
