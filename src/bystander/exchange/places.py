"""Where the time went, and where it changed, for programs: JSON documents, and CSV with one row a path or a place."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from bystander.design import (
    BUILT_IN,
    Account,
    Change,
    Cost,
    Expectation,
    Hint,
    Lead,
    Place,
    PlaceChange,
    PlaceRow,
    PlaceTable,
    account_sentences,
    lead_label,
    lead_sentence,
    place_label,
)
from bystander.evidence import Sums
from bystander.exchange.written.csv_text import csv_text
from bystander.exchange.written.json_text import json_text

__all__ = [
    "LEADS_FORMAT",
    "PLACES_FORMAT",
    "accounts_csv",
    "accounts_json",
    "change_json",
    "finite",
    "paths_csv",
    "place_json",
    "places_json",
]

PLACES_FORMAT, LEADS_FORMAT = "bystander.places", "bystander.leads"
_VERSION = 1


def places_json(table: PlaceTable, order: str) -> str:
    """Return the document whose schema is in docs/leads.schema.json; times in seconds a trial."""
    document = {
        "format": PLACES_FORMAT, "version": _VERSION, "inspection": table.run, "workload": table.workload,
        "arm": table.arm, "view": table.view, "order": order, "trials": table.trials, "readings": table.readings,
        "elapsed_s": table.elapsed_s, "processor_s": table.processor_s, "waiting_s": table.waiting_s,
        "cpu_s": table.cpu_s, "waits_s": dict(table.waits), "calls": table.calls, "calls_repeat": table.repeats,
        "tasks": [
            {"name": one.name, "count": one.count, "processor_s": one.processor_s, "waiting_s": one.waiting_s}
            for one in table.tasks
        ],
        "places": [_row(row) for row in table.rows], "groups": [_row(row) for row in table.groups],
        "sentences": list(table.sentences), "about": list(table.about),
        "expected": [_expected(one) for one in table.expected], "hints": [_hint(one) for one in table.hints],
    }  # fmt: skip
    return json_text(document, indent=1)


def _row(row: PlaceRow) -> dict[str, Any]:
    return {
        "label": row.label, "kind": row.place.kind, "name": row.place.name, "file": row.place.file or None,
        "line": row.place.line or None, "whole_s": finite(row.whole_s), "alone_s": finite(row.alone_s),
        "readings": row.whole_readings, "calls": row.calls, "inner_calls": row.inner, "resumed": row.resumed,
        "calls_repeat": row.repeats, "per_call_s": finite(row.per_call_s),
        "waits_s": dict(row.waits), "fate": row.fate or None, "settled": row.settled,
        "callers": [
            {"label": place_label(one.place), "calls": one.calls, "per_call_of_caller": one.each} for one in row.callers
        ],
    }  # fmt: skip


def paths_csv(sums: Sums, spreadsheet: bool = False) -> str:
    """Return one row a path: its places from the outermost on, seconds a trial, and readings over all trials."""
    tree = sums.tree
    rows: list[Sequence[object]] = [["seconds", "readings", "depth", "name", "file", "line", "path"]]
    texts: list[str] = []
    depths: list[int] = []
    for node, (parent, place, line) in enumerate(zip(tree.parent, tree.place, tree.line, strict=True)):
        one = tree.places[place]
        step = f"{one.name}:{line}" if line else one.name
        texts.append(f"{texts[parent]} > {step}" if parent >= 0 else step)
        depths.append(depths[parent] + 1 if parent >= 0 else 1)
        if ns := int(sums.spent[node]):
            seconds = f"{ns / 1e9 / max(1, sums.trials):.9f}"
            rows.append([seconds, int(sums.readings[node]), depths[node], one.name, one.file, line, texts[node]])
    return csv_text(rows, spreadsheet)


def accounts_json(accounts: Sequence[Account]) -> str:
    """Return the document of accounts and leads whose schema is in docs/accounts.schema.json; seconds a trial."""
    document = {"format": LEADS_FORMAT, "version": _VERSION, "accounts": [_account(one) for one in accounts]}
    return json_text(document, indent=1)


def finite(number: float | None) -> float | None:
    """Return a number, None where JSON could not tell it."""
    return number if number is not None and math.isfinite(number) else None


def change_json(change: Change) -> dict[str, Any]:
    """Return a change in seconds a trial; ends that are not bounded are None."""
    return {
        "before_s": change.before_s, "after_s": change.after_s, "change_s": change.change_s,
        "low_s": finite(change.low_s), "high_s": finite(change.high_s), "shown": change.shown,
    }  # fmt: skip


def _difference(change: Change) -> dict[str, Any]:
    """Return a sum of differences, of which before and after have no meaning."""
    return {name: value for name, value in change_json(change).items() if name not in ("before_s", "after_s")}


def place_json(place: Place | None) -> dict[str, Any] | None:
    """Return what tells a place from others; None for none."""
    if place is None:
        return None
    return {
        "label": place_label(place), "kind": place.kind, "name": place.name, "file": place.file or None,
        "line": place.line or None,
    }  # fmt: skip


def _cost(cost: Cost | None) -> dict[str, Any] | None:
    if cost is None:
        return None
    return {"ratio": cost.ratio, "low": cost.low, "high": finite(cost.high)}


def _account(one: Account) -> dict[str, Any]:
    return {
        "inspection": one.run, "workload": one.workload, "against": one.against, "arm": one.arm, "view": one.view,
        "blocks": one.blocks, "confidence": one.confidence, "margin_s": one.margin_s, "whole": change_json(one.whole),
        "explained": _difference(one.explained), "rest": _difference(one.rest), "smaller": change_json(one.smaller),
        "account": account_sentences(one), "leads": [_lead(lead) for lead in one.leads],
        "places": [_place_change(place) for place in one.places],
        "watching_cost": {
            "against": _cost(one.cost[0]), "arm": _cost(one.cost[1]), "arm_over_against": _cost(one.slowed_more),
            "taken_out": one.slowed,
        },
        "timed": one.timed or None,
        "calls_repeat": one.repeats, "commits": list(one.subjects), "packages": list(one.packages),
        "about": list(one.about), "expected": [_expected(each) for each in one.expected],
        "hints": [_hint(each) for each in one.hints],
    }  # fmt: skip


def _expected(one: Expectation) -> dict[str, Any]:
    return {
        "word": one.word, "arm": one.arm, "places": [place_json(place) for place in one.places],
        "expected": one.expected, "share": one.share, "low": one.low, "high": one.high, "seconds": one.seconds,
        "total_s": one.total_s, "trials": one.trials, "surprise": one.surprise,
    }  # fmt: skip


def _hint(one: Hint) -> dict[str, Any]:
    return {
        "place": place_json(one.place), "line": one.line, "kind": one.kind, "said": one.said, "advice": one.advice,
        "seconds": one.seconds,
    }  # fmt: skip


def _lead(lead: Lead) -> dict[str, Any]:
    return {
        "label": lead_label(lead), "place": place_json(lead.place), "code": str(lead.standing),
        "by_count": lead.by_count, "by_surprise": lead.by_surprise,
        "surprise": lead.surprise or None, "seconds": lead.timed and change_json(lead.timed), "p": finite(lead.p),
        "takes": [place_json(one) for one in lead.takes],
        "moved_from": place_json(lead.moved_from), "under": place_json(lead.under), "calls_before": lead.calls_before,
        "calls_after": lead.calls_after, "waiting_before_s": lead.waiting_before_s,
        "waiting_after_s": lead.waiting_after_s, "most_at_line": lead.line or None,
        "called": place_json(lead.called_place),
        "called_by": [
            {"place": place_json(one.place), "before": one.before, "after": one.after} for one in lead.called
        ],
        "said": lead_sentence(lead), "fate": lead.fate or None, "settled": lead.settled, "moved_on": lead.moved_on,
        "hunk": list(lead.hunk),
    }  # fmt: skip


def _timed(one: PlaceChange, change: Change) -> dict[str, Any] | None:
    """Return the seconds of a place; none for a built-in, whose seconds stand with the line that calls it."""
    return None if one.place.kind == BUILT_IN else change_json(change)


def _place_change(one: PlaceChange) -> dict[str, Any]:
    return {
        **(place_json(one.place) or {}), "code": str(one.standing), "whole": _timed(one, one.whole),
        "alone": _timed(one, one.alone), "p_whole": finite(one.p_whole), "p_alone": finite(one.p_alone),
        "calls_before": one.calls_before, "calls_after": one.calls_after,
    }  # fmt: skip


_COLUMNS = (
    "workload", "against", "arm", "name", "file", "line", "code", "whole_before_s", "whole_after_s", "whole_change_s",
    "whole_low_s", "whole_high_s", "alone_before_s", "alone_after_s", "alone_change_s", "alone_low_s", "alone_high_s",
    "p_whole", "p_alone", "calls_before", "calls_after",
)  # fmt: skip


def accounts_csv(accounts: Sequence[Account], spreadsheet: bool = False) -> str:
    """Return one row a place of every workload, both arms beside each other; seconds a trial, empty where not known."""
    rows: list[Sequence[object]] = [_COLUMNS]

    def told(number: float | None) -> str:
        return "" if finite(number) is None else f"{number:.9g}"

    for account in accounts:
        for one in account.places:
            place, front = one.place, [account.workload, account.against, account.arm]
            timed = place.kind != BUILT_IN
            seconds = [told(number) if timed else "" for change in (one.whole, one.alone) for number in change]
            calls = ["" if n is None else n for n in (one.calls_before, one.calls_after)]
            code = str(one.standing)
            tail = [*seconds, told(one.p_whole), told(one.p_alone), *calls]
            rows.append([*front, place.name, place.file, place.line, code, *tail])
    return csv_text(rows, spreadsheet)
