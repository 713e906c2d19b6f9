"""What a trial tells is collected, kind after kind, into readings and packets of evidence."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

from bystander.design import TIMELINE, TrialOutcome
from bystander.errors import DataError
from bystander.evidence import Collected, EvidenceKind, TrialFiles, evidence_kinds, packed, reduced
from bystander.exchange import Spans, read_marks, read_spans

__all__ = ["with_evidence"]

_CLOCK_SLACK_NS = 1_000_000  # by which the wall clock may have been moved meanwhile

Collect = Callable[[TrialOutcome, TrialFiles], Collected | None]


def with_evidence(outcome: TrialOutcome, files: TrialFiles) -> TrialOutcome:
    """Return a trial with readings and evidence of all that it told, where it told anything."""
    for kind, collect in _collectors():
        if (found := collect(outcome, files)) is not None:
            outcome = replace(
                outcome,
                readings={**outcome.readings, **found.readings},
                measures={**outcome.measures, **found.measures},
                evidence=(*outcome.evidence, packed(kind, found.content, found.summary)),
            )
    return outcome


def _collectors() -> Iterator[tuple[EvidenceKind, Collect]]:
    """Yield each kind that trials tell of, with what collects it."""
    for kind in evidence_kinds():
        if collect := kind.collect or _OWN.get(kind.name):
            yield kind, collect


def _marked(outcome: TrialOutcome, files: TrialFiles) -> Collected | None:
    """Return what was told in lines of marks, and in spans."""
    data = files.marks.read_bytes() if files.marks.exists() else b""
    if not data and files.spans is None:
        return None
    started_ns, length_ns = round(outcome.started_monotonic_s * 1e9), round(outcome.took_s * 1e9)
    offset_ns = round(outcome.started_wall_s * 1e9) - started_ns
    gathered, broken = Spans(), 0
    if files.spans is not None:
        try:
            text = files.spans.read_text(encoding="utf-8", errors="replace")
            read_spans(text, gathered, offset_ns, started_ns - _CLOCK_SLACK_NS)
        except (OSError, DataError):
            broken = 1
    marks = read_marks(data, started_ns, length_ns, offset_ns, gathered)
    if broken:
        marks = replace(marks, problems={**marks.problems, "the file of spans could not be read": 1})
    return reduced(marks, whole=not outcome.samples)


_OWN: dict[str, Collect] = {TIMELINE: _marked}
