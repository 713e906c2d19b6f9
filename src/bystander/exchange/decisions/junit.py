"""A decision as JUnit XML, which pipelines show as tests: a case for each row, and for each ceiling.

A case fails where the gate stops at it. What is unclear, and what failed while nobody asked, is skipped with the
reason. What the gate finds of the record as a whole, or could not tell, is a case of its own.
"""

from __future__ import annotations

from xml.etree import ElementTree

from bystander.units import moment_text, plain_text, share_text
from bystander.verdicts import (
    CeilingRow,
    CeilingVerdict,
    Decision,
    GateFinding,
    Row,
    Verdict,
    beyond_text,
    ceiling_notes,
    ceiling_text,
    outcome_sentence,
    quoted_texts,
    row_sentence,
)

__all__ = ["junit_xml"]

_FAILURE, _ERROR, _SKIPPED = "failure", "error", "skipped"


def junit_xml(decision: Decision, gate: GateFinding | None = None) -> str:
    """Return the document."""
    head = decision.head
    cases = [_of_row(decision, row, gate) for row in decision.rows if row.primary or (gate and gate.words_of(row))]
    cases += [_of_ceiling(decision, row, gate) for row in decision.ceilings]
    cases += _of_record(gate) if gate else []
    counts = {kind: sum(case.find(kind) is not None for case in cases) for kind in (_FAILURE, _ERROR, _SKIPPED)}
    suite = ElementTree.Element("testsuite", {
        "name": _text(head.study.name), "tests": str(len(cases)), "failures": str(counts[_FAILURE]),
        "errors": str(counts[_ERROR]), "skipped": str(counts[_SKIPPED]),
    })  # fmt: skip
    properties = ElementTree.SubElement(suite, "properties")
    for name, value in {
        "record": head.name, "record_uuid": head.uuid, "begun": moment_text(head.started_wall_s),
        "measure": decision.measure.name, "margin": share_text(decision.margin), "risk": share_text(decision.risk),
        "gate": ",".join(gate.ask.words) if gate else "", "outcome": outcome_sentence(decision),
    }.items():  # fmt: skip
        ElementTree.SubElement(properties, "property", {"name": name, "value": _text(value)})
    suite.extend(cases)
    ElementTree.indent(suite)
    text: str = ElementTree.tostring(suite, encoding="unicode")
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{text}\n'


def _case(name: str, group: str, said: str) -> ElementTree.Element:
    case = ElementTree.Element("testcase", {"name": _text(name), "classname": _text(group)})
    ElementTree.SubElement(case, "system-out").text = _text(said)
    return case


def _marked(case: ElementTree.Element, kind: str, why: str, message: str) -> None:
    """Put before what a case says that it failed, could not be told, or was skipped."""
    case.insert(0, ElementTree.Element(kind, {"type": _text(why), "message": _text(message)}))


def _of_row(decision: Decision, row: Row, gate: GateFinding | None) -> ElementTree.Element:
    name = decision.name_of(row) if row.primary else f"{decision.name_of(row)}, {row.measure.label}"
    sentence, (least, middle, greatest) = row_sentence(row), quoted_texts(row)
    quoted = f"not tested: least {least}, middle {middle}, greatest {greatest}"
    said = "\n".join([sentence, *(note.text for note in row.notes), quoted])
    case = _case(name, f"{decision.head.study.name}.{row.arm}", said)
    if words := gate.words_of(row) if gate else ():
        _marked(case, _FAILURE, " ".join(words), sentence)
    elif row.verdict in (Verdict.UNCLEAR, Verdict.FAILED):
        _marked(case, _SKIPPED, row.verdict, sentence)
    return case


def _of_ceiling(decision: Decision, row: CeilingRow, gate: GateFinding | None) -> ElementTree.Element:
    name = f"{row.workload}, {ceiling_text(row, decision.measure.name)}"
    sentence = f"{row.verdict}: beyond it {', '.join([beyond_text(row), *ceiling_notes(row)])}"
    case = _case(name, f"{decision.head.study.name}.{row.arm}", sentence)
    if words := gate.words_of(row) if gate else ():
        _marked(case, _FAILURE, " ".join(words), sentence)
    elif row.verdict != CeilingVerdict.HOLDS or row.doubtful:
        _marked(case, _SKIPPED, row.verdict, sentence)
    return case


def _of_record(gate: GateFinding) -> list[ElementTree.Element]:
    """Return cases for what the gate found beside the rows, and for what it could not tell."""
    cases = []
    for word, what in gate.of_record:
        cases.append(case := _case(f"{word}: {what}", "gate", f"{what} ({word})"))
        _marked(case, _FAILURE, word, f"{what} ({word})")
    for sentence in gate.untold:
        cases.append(case := _case("could not be told", "gate", sentence))
        _marked(case, _ERROR, "not-told", sentence)
    return cases


def _text(text: str) -> str:
    """Return text without what XML cannot hold."""
    return plain_text(text)
