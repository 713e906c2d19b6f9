"""Calls as evidence: how they are packed, and written into documents."""

from __future__ import annotations

from typing import Any

from bystander.design import BUILT_IN, COUNTS, PYTHON, CallEdge, Counts, Place
from bystander.evidence.kinds import register_json_kind
from bystander.evidence.summaries import checked_counts

__all__ = ["COUNTS_KIND"]


def counts_table(counts: Counts) -> dict[str, Any]:
    """Return places (kind, name, file, line) and edges (caller, line, callee, calls, inner, resumed)."""
    return {
        "places": [list(one) for one in counts.places], "edges": [list(one) for one in counts.edges],
        "processes": counts.processes, "problems": list(counts.problems),
    }  # fmt: skip


def counts_from_table(table: dict[str, Any]) -> Counts:
    """Return the counts of such a table; raise ValueError, KeyError or TypeError when it is none."""
    places = tuple(Place(str(kind), str(name), str(file), int(line)) for kind, name, file, line in table["places"])
    if any(place.kind not in (PYTHON, BUILT_IN) for place in places):
        raise ValueError("counts: a place of no known kind")
    edges = []
    for edge in table["edges"]:
        if len(edge) != 6 or any(not isinstance(one, int) for one in edge):
            raise ValueError("counts: an edge is no six whole numbers")
        made = CallEdge(*edge)
        if not -1 <= made.caller < len(places) or not 0 <= made.callee < len(places) or min(edge[3:]) < 0:
            raise ValueError("counts: an edge holds a number that stands for nothing")
        edges.append(made)
    problems = tuple(str(one) for one in table["problems"])
    return Counts(places, tuple(edges), int(table["processes"]), problems)


COUNTS_KIND = register_json_kind(COUNTS, 1, counts_table, counts_from_table, checked_counts)
