"""What was edited between two arms as evidence: how that is packed, and written into documents."""

from __future__ import annotations

from typing import Any

from bystander.design import EDITS, Edits, Hunk, LineMap, Match, Place, Standing
from bystander.evidence.kinds import register_json_kind

__all__ = ["EDITS_KIND"]


def edits_table(edits: Edits) -> dict[str, Any]:
    """Return matches (place before, place after, how the code stands), lines, commits, packages and differences."""
    matches = [[one.before and list(one.before), one.after and list(one.after), one.standing] for one in edits.matches]
    lines = [[one.before, one.after, [list(block) for block in one.blocks]] for one in edits.lines]
    return {
        "matches": matches, "lines": lines, "subjects": list(edits.subjects), "packages": list(edits.packages),
        "hunks": [[list(one.place), list(one.lines)] for one in edits.hunks],
    }  # fmt: skip


def _place(told: Any) -> Place | None:
    if told is None:
        return None
    kind, name, file, line = told
    return Place(str(kind), str(name), str(file), int(line))


def edits_from_table(table: dict[str, Any]) -> Edits:
    """Return what such a table holds; raise ValueError, KeyError or TypeError when it is none."""
    matches = []
    for before, after, standing in table["matches"]:
        match = Match(_place(before), _place(after), Standing(standing))
        if match.before is None and match.after is None:
            raise ValueError("edits: a match of nothing with nothing")
        matches.append(match)
    lines = tuple(
        LineMap(str(before), str(after), tuple((int(a), int(b), int(n)) for a, b, n in blocks))
        for before, after, blocks in table["lines"]
    )
    subjects, packages = (tuple(str(one) for one in table[name]) for name in ("subjects", "packages"))
    hunks = []
    for told, of in table.get("hunks", ()):  # inspections of before kept none
        place = _place(told)
        if place is None:
            raise ValueError("edits: a difference of nothing")
        hunks.append(Hunk(place, tuple(str(line) for line in of)))
    return Edits(tuple(matches), lines, subjects, packages, tuple(hunks))


EDITS_KIND = register_json_kind(EDITS, 1, edits_table, edits_from_table)
