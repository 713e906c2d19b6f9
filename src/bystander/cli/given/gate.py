"""What came of a gate: told on standard error, and as an exit code."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from bystander.cli.exit_codes import DONE, FAILED, GATE

if TYPE_CHECKING:
    from bystander.verdicts import GateFinding

__all__ = ["GateAlsoOption", "GateOption", "gate_code"]

GateOption = Annotated[
    str | None,
    typer.Option(
        "--gate",
        metavar="WORDS",
        help="End with exit code 3 when such a row is found, for example slower,failed; study for what the study says.",
    ),
]
GateAlsoOption = Annotated[
    str | None,
    typer.Option(
        "--gate-also",
        metavar="unrandomised,dependent",
        help="Let the gate count rows not known to be in random order, or ceilings whose trials depend on each other.",
    ),
]


def gate_code(finding: GateFinding) -> int:
    """Tell what came of a gate and return the exit code: what is found comes before what could not be told."""
    from bystander.cli.shown.console import warn
    from bystander.verdicts import gate_sentences

    for sentence in gate_sentences(finding):
        warn(sentence)
    return GATE if finding.found else FAILED if finding.untold else DONE
