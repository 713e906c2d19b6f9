"""Spans in the JSON form of OTLP (OpenTelemetry protocol 1.x): phases read from them and written as them."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

from bystander.design import Timeline
from bystander.errors import DataError
from bystander.exchange.marks import Spans, identity
from bystander.exchange.written.json_text import json_text

__all__ = ["read_spans", "spans_json"]

_LABELS = ("label", "bystander.label")


def read_spans(text: str, spans: Spans, wall_offset_ns: int, first_ns: int = 0) -> None:
    """Add the spans of a document, or of one document a line as file exporters write them.

    A span's attribute `label` tells like instances apart; `thread.id` and the resource's `process.pid` say where it
    ran.

    Parameters
    ----------
    wall_offset_ns : int
        Wall time less monotonic time.
    first_ns : int
        Spans that began before, on the monotonic clock, are those of earlier trials and left out.

    Raises
    ------
    DataError
        When it is no such document.
    """
    try:
        documents = [json.loads(text)] if text.strip() else []
    except RecursionError as error:
        raise DataError(f"it is no JSON: {error}") from None
    except ValueError:
        documents = [_document(line) for line in text.splitlines() if line.strip()]
    try:
        for document in documents:
            for process, span in _spans(document):
                begin, end = int(span["startTimeUnixNano"]), int(span.get("endTimeUnixNano") or 0)
                if begin - wall_offset_ns < first_ns:
                    continue
                attributes = _attributes(span)
                own, around = (str(span.get(key) or "") or 0 for key in ("spanId", "parentSpanId"))
                spans.add(
                    begin - wall_offset_ns, end - wall_offset_ns if end else -1, _text(span["name"]),
                    next((_text(attributes[key]) for key in _LABELS if key in attributes), ""), process,
                    thread := identity(attributes.get("thread.id", 0)), -1, own, around,
                )  # fmt: skip
                if "thread.name" in attributes:
                    spans.titles[process, thread] = _text(attributes["thread.name"])
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as error:
        raise DataError(f"it holds no spans in OTLP's JSON form: {error}") from None


def _document(line: str) -> Any:
    try:
        return json.loads(line)
    except (ValueError, RecursionError) as error:
        raise DataError(f"it is no JSON: {error}") from None


def _text(value: Any) -> str:
    """Return a text that can be written: JSON can name halves of letters."""
    return str(value).encode("utf-8", "replace").decode("utf-8")


def _spans(document: Mapping[str, Any]) -> Iterator[tuple[int, Mapping[str, Any]]]:
    for resource in document["resourceSpans"]:
        about = _attributes(resource.get("resource", {}))
        for scope in resource.get("scopeSpans", ()):
            for span in scope.get("spans", ()):
                yield identity(about.get("process.pid", 0)), span


def _attributes(holder: Mapping[str, Any]) -> dict[str, Any]:
    return {one["key"]: next(iter(one["value"].values()), "") for one in holder.get("attributes", ())}


def spans_json(timeline: Timeline, trace: str, started_wall_ns: int, title: str) -> str:
    """Return the phases of a trial as one OTLP document: a root span for the trial, and one for each instance.

    Parameters
    ----------
    trace : str
        32 hexadecimal digits.
    title : str
        The root's name.
    """
    groups: dict[int, list[dict[str, Any]]] = {lane.process: [] for lane in timeline.lanes} or {0: []}
    root = _span(trace, 1, 0, title, started_wall_ns, started_wall_ns + timeline.length_ns, {})
    columns = (timeline.begin_ns, timeline.end_ns, timeline.cpu_ns, timeline.name, timeline.label, timeline.lane)
    rows = zip(*(column.tolist() for column in (*columns, timeline.around)), strict=True)
    for i, (begin, end, cpu, name, label, lane, around) in enumerate(rows):
        about = {"thread.id": timeline.lanes[lane].thread, "thread.name": timeline.lanes[lane].title}
        about |= {"label": timeline.labels[label]} | ({"cpu_ns": cpu} if cpu >= 0 else {})
        span = _span(
            trace, i + 2, around + 2 if around >= 0 else 1, timeline.names[name], started_wall_ns + begin,
            started_wall_ns + end, about,
        )  # fmt: skip
        groups[timeline.lanes[lane].process].append(span)
    resources = [
        {
            "resource": {"attributes": _told({"service.name": title, "process.pid": process})},
            "scopeSpans": [{"scope": {"name": "bystander"}, "spans": [root, *spans] if not i else spans}],
        }
        for i, (process, spans) in enumerate(groups.items())
    ]
    return json_text({"resourceSpans": resources}) + "\n"


def _span(
    trace: str, number: int, around: int, name: str, begin: int, end: int, about: Mapping[str, Any]
) -> dict[str, Any]:
    parent = {"parentSpanId": f"{around:016x}"} if around else {}
    return {
        "traceId": trace, "spanId": f"{number:016x}", **parent, "name": name, "kind": 1,
        "startTimeUnixNano": str(begin), "endTimeUnixNano": str(end), "attributes": _told(about),
    }  # fmt: skip


def _told(about: Mapping[str, Any]) -> list[dict[str, Any]]:
    return [
        {"key": key, "value": {"intValue": str(value)} if isinstance(value, int) else {"stringValue": value}}
        for key, value in about.items()
        if value != ""
    ]
