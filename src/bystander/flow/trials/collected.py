"""What a trial tells is collected, kind after kind, into readings and evidence; and the numbers that it prints."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from bystander.design import TIMELINE, Measure, PrintedNumber, TrialOutcome
from bystander.errors import DataError
from bystander.evidence import Collected, EvidenceKind, TrialFiles, evidence_kinds, packed, reduced
from bystander.exchange import Spans, read_marks, read_spans
from bystander.field import LeftError, read_left
from bystander.units import base_unit

__all__ = ["printed_number", "with_evidence", "with_numbers"]

_THOUSANDS = re.compile(r"[-+]?\d{1,3}(?:,\d{3})+(?:\.\d+)?")
_LARGEST = 1e100
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


def with_numbers(
    outcome: TrialOutcome, numbers: Mapping[str, PrintedNumber], files: Sequence[Path], most: int
) -> TrialOutcome:
    """Return a trial with the numbers that it printed; one that it did not print is NaN.

    Parameters
    ----------
    files : sequence of Path
        Where it printed: output before errors.
    most : int
        The most bytes that it may print.

    Raises
    ------
    LeftError
        When one of the files is none.
    """
    if not numbers:
        return outcome
    printed = [read_left(file, most, "the file of its output") or b"" for file in files]
    text = b"\n".join(printed).decode("utf-8", "replace")
    readings, measures = dict(outcome.readings), dict(outcome.measures)
    for name, number in numbers.items():
        factor, unit = base_unit(number.unit)
        readings[f"reading:{name}"] = _found(number, text) * factor
        measures[f"reading:{name}"] = Measure(f"reading:{name}", name, unit, number.better)
    return replace(outcome, readings=readings, measures=measures)


def _found(number: PrintedNumber, text: str) -> float:
    values = [printed_number(word) for word in re.findall(number.pattern, text, re.MULTILINE)]
    if not values:
        return math.nan
    return math.fsum(values) if number.of == "sum" else values[0 if number.of == "first" else -1]


def printed_number(word: str) -> float:
    """Return a number as it is printed, with commas between thousands or without; NaN for what is none."""
    try:
        value = float(word.replace(",", "") if _THOUSANDS.fullmatch(word) else word)
    except ValueError:
        return math.nan
    return value if abs(value) <= _LARGEST else math.nan
