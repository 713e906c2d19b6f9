"""Where the time went, for programs: a JSON document of places, and CSV with one row a path."""

from __future__ import annotations

import csv
import io
import json
import math
from typing import Any

from bystander.design import PlaceRow, PlaceTable, place_label
from bystander.evidence import Sums

__all__ = ["PLACES_FORMAT", "paths_csv", "places_json"]

PLACES_FORMAT = "bystander.places"
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
    }  # fmt: skip
    return json.dumps(document, ensure_ascii=False, indent=1)


def _row(row: PlaceRow) -> dict[str, Any]:
    def known(number: float | None) -> float | None:
        return None if number is None or math.isnan(number) else number

    return {
        "label": row.label, "kind": row.place.kind, "name": row.place.name, "file": row.place.file or None,
        "line": row.place.line or None, "whole_s": known(row.whole_s), "alone_s": known(row.alone_s),
        "readings": row.whole_readings, "calls": row.calls, "inner_calls": row.inner, "resumed": row.resumed,
        "calls_repeat": row.repeats, "per_call_s": known(row.per_call_s),
        "waits_s": dict(row.waits),
        "callers": [
            {"label": place_label(one.place), "calls": one.calls, "per_call_of_caller": one.each} for one in row.callers
        ],
    }  # fmt: skip


def paths_csv(sums: Sums) -> str:
    """Return one row a path: its places from the outermost on, seconds a trial, and readings over all trials."""
    tree, out = sums.tree, io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["seconds", "readings", "depth", "name", "file", "line", "path"])
    texts: list[str] = []
    depths: list[int] = []
    for node, (parent, place, line) in enumerate(zip(tree.parent, tree.place, tree.line, strict=True)):
        one = tree.places[place]
        step = f"{one.name}:{line}" if line else one.name
        texts.append(f"{texts[parent]} > {step}" if parent >= 0 else step)
        depths.append(depths[parent] + 1 if parent >= 0 else 1)
        if ns := int(sums.spent[node]):
            seconds = f"{ns / 1e9 / max(1, sums.trials):.9f}"
            writer.writerow([seconds, int(sums.readings[node]), depths[node], one.name, one.file, line, texts[node]])
    return out.getvalue()
