"""What a trial tells is collected, kind after kind, into readings and packets of evidence."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

from bystander.design import TIMELINE, TrialOutcome
from bystander.errors import DataError
from bystander.evidence import Collected, EvidenceKind, TrialFiles, evidence_kinds, packed, reduced
from bystander.exchange import Spans, read_marks, read_spans
from bystander.field import LeftError, read_left

__all__ = ["with_evidence"]

_CLOCK_SLACK_NS = 1_000_000  # by which the wall clock may have been moved meanwhile

Collect = Callable[[TrialOutcome, TrialFiles], Collected | None]


def with_evidence(outcome: TrialOutcome, files: TrialFiles) -> TrialOutcome:
    """Return a trial with readings and evidence of all that it told, where it told anything.

    Raises
    ------
    LeftError
        When what it told is over a limit, or something else lies in the place of a file.
    """
    for kind, collect in _collectors():
        if (found := collect(outcome, files)) is not None:
            try:
                packet = packed(kind, found.content, found.summary)
            except ValueError as error:
                raise LeftError(f"what it told is too much: {error}") from None
            outcome = replace(
                outcome,
                readings={**outcome.readings, **found.readings},
                measures={**outcome.measures, **found.measures},
                evidence=(*outcome.evidence, packet),
            )
    return outcome


def _collectors() -> Iterator[tuple[EvidenceKind, Collect]]:
    """Yield each kind that trials tell of, with what collects it."""
    for kind in evidence_kinds():
        if collect := kind.collect or _OWN.get(kind.name):
            yield kind, collect


def _marked(outcome: TrialOutcome, files: TrialFiles) -> Collected | None:
    """Return what was told in lines of marks, and in spans."""
    data = read_left(files.marks, files.most.size, "the file of its marks") or b""
    if not data and files.spans is None:
        return None
    if (lines := data.count(b"\n")) > files.most.lines:
        raise LeftError(f"it told {lines} lines of marks, and told_lines is {files.most.lines}")
    started_ns, length_ns = round(outcome.started_monotonic_s * 1e9), round(outcome.took_s * 1e9)
    offset_ns = round(outcome.started_wall_s * 1e9) - started_ns
    gathered, broken = Spans(), 0
    if files.spans is not None:
        try:
            text = read_left(files.spans, files.most.size, f"the file of its spans, {files.spans.name},")
            if text is None:
                raise DataError("it is not there")
            read_spans(text.decode("utf-8", "replace"), gathered, offset_ns, started_ns - _CLOCK_SLACK_NS)
        except DataError:
            broken = 1
    marks = read_marks(data, started_ns, length_ns, offset_ns, gathered)
    if (names := len(marks.readings) + len(marks.items) + len(marks.intervals)) > files.most.names:
        raise LeftError(f"it told {names} readings, items and intervals, and told_names is {files.most.names}")
    if broken:
        marks = replace(marks, problems={**marks.problems, "the file of spans could not be read": 1})
    return reduced(marks, whole=not outcome.samples)


_OWN: dict[str, Collect] = {TIMELINE: _marked}
