"""What a pipeline is told: one line when all is well, else what stops it and what to do."""

from __future__ import annotations

from bystander.cli.exit_codes import DONE, FAILED, GATE
from bystander.verdicts import Decision, GateFinding, gate_sentences, outcome_sentence, what_to_do

__all__ = ["print_brief"]


def print_brief(decision: Decision, finding: GateFinding) -> int:
    """Print what came of a gate and return the exit code."""
    from bystander.cli.shown.console import output, tell

    console, name = output(), decision.head.name
    code = GATE if finding.found else FAILED if finding.untold else DONE
    sentences = [sentence.removeprefix("gate: ") for sentence in gate_sentences(finding)]
    if code == DONE:
        console.print(f"{name}: {'; '.join(sentences)}.", soft_wrap=True)
        return code
    tell(console, f"{name}: {outcome_sentence(decision)}")
    for sentence in sentences:
        tell(console, sentence)
    for text in what_to_do(decision, finding):
        tell(console, text)
    return code
