"""A ladder as JSON, whose schema is docs/ladder.schema.json, and as CSV."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from bystander.exchange.written.csv_text import csv_text
from bystander.exchange.written.json_text import json_text
from bystander.verdicts import Disagreement, Ladder, Row, Rung, Scale, SoFar, Whole

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["LADDER_HEAD", "ladder_csv", "ladder_frame", "ladder_json"]

LADDER_HEAD = (
    "record", "study", "link", "number", "since", "subject", "added", "removed", "hunks", "files", "joined",
    "workload", "verdict", "scale", "gain", "low", "high", "confidence", "p_adjusted", "median", "unit", "blocks",
    "so_far", "so_far_low", "so_far_high", "answer", "fate", "because",
)  # fmt: skip
TOTAL = "total"


def ladder_csv(ladder: Ladder) -> str:
    """Return one line for each link and workload, and for the whole load, then the totals; ratios in SI units."""
    return csv_text([LADDER_HEAD, *_lines(ladder)])


_TEXTS = frozenset(LADDER_HEAD) - {
    "number", "added", "removed", "hunks", "files", "gain", "low", "high", "confidence", "p_adjusted", "median",
    "blocks", "so_far", "so_far_low", "so_far_high",
}  # fmt: skip


def ladder_frame(ladder: Ladder) -> pd.DataFrame:
    """Return the lines of `ladder_csv` as a frame: numbers, NaN where nothing is known, and texts."""
    import pandas as pd

    frame = pd.DataFrame(list(_lines(ladder)), columns=list(LADDER_HEAD))
    for name in LADDER_HEAD:
        frame[name] = frame[name].astype(str) if name in _TEXTS else pd.to_numeric(frame[name].replace("", math.nan))
    return frame


def _lines(ladder: Ladder) -> Iterator[Sequence[object]]:
    study = ladder.head.study.name
    for rung in ladder.rungs:
        link, size = rung.link, rung.link.size
        sizes = (size.added, size.removed, size.hunks, size.files) if size else ("",) * 4
        joined = " ".join(one.name for one in link.joined)
        begin = (rung.record, study, link.name, rung.number, link.since, link.subject, *sizes, joined)
        for i, row in enumerate(rung.rows):
            so_far = rung.so_far[i] if rung.so_far else None
            behind = [_cell(v) for v in (so_far.estimate, so_far.low, so_far.high)] if so_far else [""] * 3
            yield (*begin, *_of_row(row), *behind, _answer(row), rung.fate, rung.because)
        if (whole := rung.together) is not None:
            yield (*begin, *_of_whole(whole, ladder), *[""] * 4, rung.fate, rung.because)
    last = ladder.rungs[-1].link.arm if ladder.rungs else ""
    begin = (ladder.head.name, study, TOTAL, "", ladder.first_name, f"{last} against {ladder.first_name}", *[""] * 5)
    for row in ladder.total:
        yield (*begin, *_of_row(row), *[""] * 3, _answer(row), "", "")
    if (whole := ladder.total_load or ladder.total_mean) is not None:
        yield (*begin, *_of_whole(whole, ladder), *[""] * 6)


def _of_row(row: Row) -> tuple[object, ...]:
    low = row.low if row.scale != Scale.RATIO or row.low > 0 else math.nan
    return (
        row.workload, row.verdict, row.scale, _cell(row.estimate), _cell(low), _cell(row.high), row.confidence,
        _cell(row.p_adjusted), _cell(row.candidate.median), row.measure.unit, row.blocks,
    )  # fmt: skip


def _of_whole(whole: Whole, ladder: Ladder) -> tuple[object, ...]:
    name = "whole load" if not math.isnan(whole.seconds) else "geometric mean"
    return (
        name, "", Scale.RATIO, _cell(whole.ratio), _cell(whole.low), _cell(whole.high), whole.confidence, "", "",
        ladder.measure.unit, ladder.blocks,
    )  # fmt: skip


def _answer(row: Row) -> str:
    return "differs" if row.has("answer-differs") else "accepted" if row.has("answer-accepted") else ""


def _cell(value: float) -> object:
    return value if math.isfinite(value) else ""


def ladder_json(ladder: Ladder) -> str:
    """Return the document, indented; numbers that are unbounded or undefined are null."""
    head, study = ladder.head, ladder.head.study
    document = {
        "format": "bystander.ladder",
        "version": 1,
        "record": head.name,
        "record_uuid": head.uuid,
        "started_wall_s": head.started_wall_s,
        "study": study.name,
        "complete": head.complete,
        "kind": ladder.kind,
        "what": study.chain.what if study.chain else "",
        "measure": ladder.measure.name,
        "unit": ladder.measure.unit,
        "margin": ladder.margin,
        "risk": ladder.risk,
        "blocks": ladder.blocks,
        "seed": study.seed,
        "workloads": list(ladder.workloads),
        "first": {"state": ladder.first_name, "medians": [_number(value) for value in ladder.first]},
        "smallest_shown": [_number(value) for value in ladder.smallest],
        "placebo": ladder.placebo,
        "links": [_rung(rung) for rung in ladder.rungs],
        "dependent": [_dependent(one) for one in ladder.disagree],
        "total": [_row(row) for row in ladder.total],
        "total_load": _whole(ladder.total_load),
        "total_geometric_mean": _whole(ladder.total_mean),
    }
    return json_text(document, indent=2)


def _dependent(one: Disagreement) -> dict[str, Any]:
    return {"piece": one.piece, "workload": one.workload, "alone_less_last": one.estimate, "p_adjusted": one.p_adjusted}


def _rung(rung: Rung) -> dict[str, Any]:
    link, size = rung.link, rung.link.size
    return {
        "number": rung.number,
        "state": link.name,
        "since": link.since,
        "record": rung.record,
        "identity": rung.identity,
        "subject": link.subject,
        "size": None if size is None else {
            "added": size.added, "removed": size.removed, "hunks": size.hunks, "files": size.files,
        },
        "functions": list(link.functions),
        "joined": [{"state": one.name, "why": one.why} for one in link.joined],
        "gains": [_row(row) for row in rung.rows],
        "so_far": [_so_far(one) for one in rung.so_far],
        "load": _whole(rung.load),
        "geometric_mean": _whole(rung.mean),
        "fate": rung.fate or None,
        "because": rung.because,
    }  # fmt: skip


def _row(row: Row) -> dict[str, Any]:
    ratio = row.scale == Scale.RATIO
    return {
        "workload": row.workload,
        "verdict": row.verdict,
        "scale": row.scale,
        "gain": _number(row.estimate),
        "interval": [_number(row.low) if not ratio or row.low > 0 else None, _number(row.high)],
        "confidence": row.confidence,
        "p_adjusted": _number(row.p_adjusted),
        "medians": [_number(row.reference.median), _number(row.candidate.median)],
        "failed": [row.reference.failed, row.candidate.failed],
        "blocks": row.blocks,
        "answer": _answer(row) or "same",
        "notes": [{"code": note.code, "text": note.text} for note in row.notes],
    }


def _so_far(one: SoFar) -> dict[str, Any]:
    return {
        "scale": one.scale, "change": _number(one.estimate), "interval": [_number(one.low), _number(one.high)],
        "median": _number(one.median),
    }  # fmt: skip


def _whole(one: Whole | None) -> dict[str, Any] | None:
    if one is None:
        return None
    return {
        "ratio": _number(one.ratio), "interval": [_number(one.low), _number(one.high)], "confidence": one.confidence,
        "left_out": [*one.other_answer, *one.failed], "prevented": [name for name, _ in one.prevented],
    }  # fmt: skip


def _number(value: float) -> float | None:
    return value if math.isfinite(value) else None
