"""What came of a gate, as people say it."""

from __future__ import annotations

import math

from bystander.design import CHANGES
from bystander.units import listed
from bystander.verdicts.decided.gate import GateFinding, NotRuledOut, row_name

__all__ = ["gate_sentences"]

_NAMED = 12


def gate_sentences(finding: GateFinding) -> list[str]:
    """Return what came of a gate, for people."""
    words = ",".join(finding.ask.words)
    if finding.found:
        lines = [f"gate {words}: found {listed([f'{what} ({word})' for word, what in finding.found], _NAMED)}"]
    elif finding.untold:
        lines = [f"gate {words}: it could not be told whether there is any"]
    else:
        lines = [f"gate {words}: nothing found{_not_ruled_out(finding)}"]
    if finding.accepted:
        passed = listed([f"{what} ({word})" for word, what in finding.accepted], _NAMED)
        lines.append(f"gate: accepted, and passed: {passed}")
    return [*lines, *(f"gate: {sentence}" for sentence in finding.untold)]


def _not_ruled_out(finding: GateFinding) -> str:
    """Return, for each gated measure, the largest worsening that is not ruled out."""
    largest: dict[str, NotRuledOut] = {}
    for one in finding.bounds:
        largest.setdefault(one.row.measure.name, one)
    if not any(word in CHANGES or word in ("unclear", "not-ruled-out") for word in finding.ask.words) or not largest:
        return ""
    bounds = [
        f"of {'' if math.isinf(one.worse) else 'up to '}{one.text} ({row_name(one.row)})" for one in largest.values()
    ]
    return f"; a worsening {', '.join(bounds)} is not ruled out"
