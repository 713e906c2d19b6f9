"""Single places for programs: neighbours, the way down and lines, as one JSON document (docs/within.schema.json)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from bystander.design import Beside, Change, CloseUp, Down, Growing, Grown, LinesOf, Neighbour, Neighbours, SlowTrials
from bystander.exchange.places import change_json, finite, place_json
from bystander.exchange.written.json_text import json_text

__all__ = ["WITHIN_FORMAT", "within_json"]

WITHIN_FORMAT = "bystander.within"


def within_json(
    neighbours: Sequence[Neighbours], down: Sequence[Down], lines: Sequence[LinesOf], beside: Beside | None = None,
    executions: Sequence[CloseUp] = (), arguments: Sequence[CloseUp] = (), growth: Growing | None = None,
    slow: SlowTrials | None = None,
) -> str:  # fmt: skip
    """Return the document; times in seconds a trial."""
    document = {
        "format": WITHIN_FORMAT,
        "version": 1,
        "neighbours": [_neighbours(one) for one in neighbours],
        "down": [_down(one) for one in down],
        "lines": [_lines(one) for one in lines],
        "beside": beside and _beside(beside),
        "executions": [_executions(one) for one in executions],
        "arguments": [_arguments(one) for one in arguments],
        "growth": growth and _growing(growth),
        "slow": slow and _slow(slow),
    }
    return json_text(document, indent=1)


def _change(change: Change) -> dict[str, Any]:
    """Return a change of a part, of which nothing is said to be shown."""
    return {name: value for name, value in change_json(change).items() if name != "shown"}


def _neighbours(found: Neighbours) -> dict[str, Any]:
    return {
        "inspection": found.run, "workload": found.workload, "view": found.view,
        "which": "callers" if found.above else "called", "places": [place_json(one) for one in found.places],
        "arms": list(found.arms), "whole": _change(found.whole), "rows": [_neighbour(one) for one in found.rows],
    }  # fmt: skip


def _neighbour(one: Neighbour) -> dict[str, Any]:
    return {
        "place": place_json(one.place), "seconds": _change(one.seconds), "calls": [one.calls_before, one.calls_after],
        "per_call_of_caller": [one.each_before, one.each_after],
    }  # fmt: skip


def _down(found: Down) -> dict[str, Any]:
    steps = [{"place": place_json(step.place), "whole_s": step.whole_s} for step in found.steps]
    return {"inspection": found.run, "workload": found.workload, "arm": found.arm, "view": found.view, "steps": steps,
            "alone_s": found.alone_s, "total_s": found.total_s}  # fmt: skip


def _lines(found: LinesOf) -> dict[str, Any]:
    lines = [
        {"line": one.line, "whole_s": one.whole_s, "alone_s": one.alone_s, "text": one.text} for one in found.lines
    ]
    return {
        "inspection": found.run, "workload": found.workload, "arm": found.arm, "place": place_json(found.place),
        "first": found.first, "last": found.last, "whole_s": found.whole_s, "lines": lines,
        "about": found.about or None,
    }  # fmt: skip


def _close_up(one: CloseUp) -> dict[str, Any]:
    return {
        "run": one.run, "workload": one.workload, "arm": one.arm, "place": place_json(one.seen.place),
        "calls": one.seen.calls, "resumed": one.seen.resumed, "repeats": one.repeats, "items": dict(one.items),
        "about": list(one.about),
    }  # fmt: skip


def _executions(one: CloseUp) -> dict[str, Any]:
    lines = [
        {"line": line.line, "runs": line.runs, "runs_per_call": line.each, "text": line.text or None,
         "said": line.said or None}
        for line in one.lines
    ]  # fmt: skip
    return {**_close_up(one), "lines": lines}


def _arguments(one: CloseUp) -> dict[str, Any]:
    parameters = [
        {"name": p.name, "distinct": p.distinct, "by_object": list(p.objects), "some_too_large": p.cut}
        for p in one.seen.parameters
    ]
    return {
        **_close_up(one), "distinct": one.seen.distinct, "at_least": one.seen.more, "most_alike": one.seen.most,
        "parameters": parameters, "sentences": list(one.sentences),
    }  # fmt: skip


def _growing(found: Growing) -> dict[str, Any]:
    return {
        "run": found.run, "workload": found.workload, "arm": found.arm, "input": found.name,
        "sizes": list(found.sizes), "blocks": found.blocks, "whole": _grown(found.whole),
        "places": [{"place": place_json(one.place), **_grown(one), "faster": one.faster,
                    "since_size": found.sizes[one.since]} for one in found.places],
        "about": list(found.about),
    }  # fmt: skip


def _grown(one: Grown) -> dict[str, Any]:
    return {
        "seconds": list(one.seconds), "exponent": _exponent(one.exponent),
        "calls": None if one.calls is None else list(one.calls), "calls_exponent": _exponent(one.calls_exponent),
    }  # fmt: skip


def _exponent(one: tuple[float, float, float] | None) -> dict[str, Any] | None:
    return one and {"mean": one[0], "low": finite(one[1]), "high": finite(one[2])}


def _slow(found: SlowTrials) -> dict[str, Any]:
    places = [{"place": place_json(one.place), "seconds": change_json(one.seconds), "p": one.p} for one in found.places]
    return {
        "run": found.run, "workload": found.workload, "arm": found.arm, "trials": found.trials, "slow": found.slow,
        "slower_than_s": found.end_s, "median_s": found.middle_s, "whole": change_json(found.whole), "places": places,
        "waits": {name: list(both) for name, both in found.waits.items()}, "seed": found.seed,
        "about": list(found.about),
    }  # fmt: skip


def _beside(found: Beside) -> dict[str, Any]:
    rows = [
        {"place": place_json(one.place), "then_s": finite(one.then_s), "now_s": finite(one.now_s),
         "calls_then": one.calls_then, "calls_now": one.calls_now}
        for one in found.rows
    ]  # fmt: skip
    return {
        "workload": found.workload, "view": found.view, "then": found.then, "now": found.now,
        "whole_then_s": found.whole_then_s, "whole_now_s": found.whole_now_s, "counted": found.counted, "rows": rows,
    }  # fmt: skip
