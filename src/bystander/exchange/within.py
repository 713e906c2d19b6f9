"""Single places for programs: neighbours, the way down and lines, as one JSON document (docs/within.schema.json)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from bystander.design import Beside, Change, Down, LinesOf, Neighbour, Neighbours, Place, place_label
from bystander.exchange.written.json_text import json_text

__all__ = ["WITHIN_FORMAT", "within_json"]

WITHIN_FORMAT = "bystander.within"


def within_json(
    neighbours: Sequence[Neighbours], down: Sequence[Down], lines: Sequence[LinesOf], beside: Beside | None = None
) -> str:
    """Return the document; times in seconds a trial."""
    document = {
        "format": WITHIN_FORMAT,
        "version": 1,
        "neighbours": [_neighbours(one) for one in neighbours],
        "down": [_down(one) for one in down],
        "lines": [_lines(one) for one in lines],
        "beside": beside and _beside(beside),
    }
    return json_text(document, indent=1)


def _place(place: Place | None) -> dict[str, Any] | None:
    if place is None:
        return None
    return {"label": place_label(place), "kind": place.kind, "name": place.name, "file": place.file or None,
            "line": place.line or None}  # fmt: skip


def _change(change: Change) -> dict[str, float | None]:
    known = (change.low_s, change.high_s)
    low, high = (end if math.isfinite(end) else None for end in known)
    return {"before_s": change.before_s, "after_s": change.after_s, "change_s": change.change_s, "low_s": low,
            "high_s": high}  # fmt: skip


def _neighbours(found: Neighbours) -> dict[str, Any]:
    return {
        "inspection": found.run, "workload": found.workload, "view": found.view,
        "which": "callers" if found.above else "called", "places": [_place(one) for one in found.places],
        "arms": list(found.arms), "whole": _change(found.whole), "rows": [_neighbour(one) for one in found.rows],
    }  # fmt: skip


def _neighbour(one: Neighbour) -> dict[str, Any]:
    return {
        "place": _place(one.place), "seconds": _change(one.seconds), "calls": [one.calls_before, one.calls_after],
        "per_call_of_caller": [one.each_before, one.each_after],
    }  # fmt: skip


def _down(found: Down) -> dict[str, Any]:
    steps = [{"place": _place(step.place), "whole_s": step.whole_s} for step in found.steps]
    return {"inspection": found.run, "workload": found.workload, "arm": found.arm, "view": found.view, "steps": steps,
            "alone_s": found.alone_s, "total_s": found.total_s}  # fmt: skip


def _lines(found: LinesOf) -> dict[str, Any]:
    lines = [
        {"line": one.line, "whole_s": one.whole_s, "alone_s": one.alone_s, "text": one.text} for one in found.lines
    ]
    return {
        "inspection": found.run, "workload": found.workload, "arm": found.arm, "place": _place(found.place),
        "first": found.first, "last": found.last, "whole_s": found.whole_s, "lines": lines,
        "about": found.about or None,
    }  # fmt: skip


def _beside(found: Beside) -> dict[str, Any]:
    def known(seconds: float) -> float | None:
        return seconds if math.isfinite(seconds) else None

    rows = [
        {"place": _place(one.place), "then_s": known(one.then_s), "now_s": known(one.now_s),
         "calls_then": one.calls_then, "calls_now": one.calls_now}
        for one in found.rows
    ]  # fmt: skip
    return {
        "workload": found.workload, "view": found.view, "then": found.then, "now": found.now,
        "whole_then_s": found.whole_then_s, "whole_now_s": found.whole_now_s, "counted": found.counted, "rows": rows,
    }  # fmt: skip
