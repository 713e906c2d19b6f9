"""Functions that were looked at closely, as evidence: packed, written into documents, and what their counts say."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations_with_replacement
from typing import Any

from bystander.design import CLOSELY, PYTHON, Closely, ClosePlace, Parameter, Place
from bystander.evidence.kinds import register_json_kind
from bystander.evidence.summaries import checked_counts

__all__ = ["CLOSELY_KIND", "against_sizes"]

_NEAR = 0.005  # a count so near to a product of sizes is told as one
_MOST_TIMES = 20


def closely_table(closely: Closely) -> dict[str, Any]:
    """Return functions with their lines and parameters as plain values."""
    places = [
        {
            "place": list(one.place), "calls": one.calls, "resumed": one.resumed,
            "lines": [list(line) for line in one.lines], "distinct": one.distinct, "most": one.most, "more": one.more,
            "parameters": [[p.name, p.distinct, list(p.objects), p.cut] for p in one.parameters],
        }
        for one in closely.places
    ]  # fmt: skip
    return {"places": places, "processes": closely.processes, "problems": list(closely.problems)}


def _count(value: Any) -> int:
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value < 2**53:
        raise ValueError(f"closely: {value!r} is no count")
    return value


def closely_from_table(table: dict[str, Any]) -> Closely:
    """Return what such a table holds; raise ValueError, KeyError or TypeError when it is none."""
    places = []
    for one in table["places"]:
        kind, name, file, line = one["place"]
        if kind != PYTHON:
            raise ValueError("closely: a place of no known kind")
        lines = tuple((_count(number), _count(runs)) for number, runs in one["lines"])
        parameters = tuple(
            Parameter(str(name), _count(distinct), tuple(str(text) for text in objects), bool(cut))
            for name, distinct, objects, cut in one["parameters"]
        )
        distinct = None if one["distinct"] is None else _count(one["distinct"])
        places.append(
            ClosePlace(
                Place(PYTHON, str(name), str(file), _count(line)), _count(one["calls"]), _count(one["resumed"]), lines,
                distinct, _count(one["most"]), bool(one["more"]), parameters,
            )
        )  # fmt: skip
    return Closely(tuple(places), _count(table["processes"]), tuple(str(text) for text in table["problems"]))


CLOSELY_KIND = register_json_kind(CLOSELY, 1, closely_table, closely_from_table, checked_counts)


def against_sizes(runs: int, sizes: Mapping[str, float]) -> str:
    """Say how a count stands to known sizes: "once for each of 400 berths", "400 berths x 400 berths"; "" for nothing.

    Parameters
    ----------
    sizes : mapping
        By name; what is 1 or less says nothing.
    """
    known = {name: size for name, size in sizes.items() if size > 1}
    for times, names in _products(known):
        value = float(times)
        for name in names:
            value *= known[name]
        if value > 1 and abs(runs - value) <= _NEAR * value:
            told = " x ".join(f"{known[name]:,.0f} {name}" for name in names)
            if len(names) > 1:
                return f"{told}{f', {times:,} times' if times > 1 else ''}"
            return f"{'once' if times == 1 else f'{times:,} times'} for each of {told}"
    return ""


def _products(known: Mapping[str, float]) -> Iterator[tuple[int, Sequence[str]]]:
    """Yield factors and names of sizes, the plainest first."""
    yield from ((1, (name,)) for name in known)
    yield from ((1, names) for names in combinations_with_replacement(known, 2))
    yield from ((times, (name,)) for times in range(2, _MOST_TIMES + 1) for name in known)
    yield from ((1, names) for names in combinations_with_replacement(known, 3))
