"""From readings and design to estimates, verdicts and notes: what a record says, as frozen types."""

from bystander.verdicts.axis import Axis, shared_axis
from bystander.verdicts.decide import Options, decide
from bystander.verdicts.gate import GATE_WORDS, GateFinding, gate, gate_words
from bystander.verdicts.single import Single, describe
from bystander.verdicts.types import ArmSide, Decision, Note, Row
from bystander.verdicts.words import (
    answer_sentence,
    change_text,
    failure_sentence,
    interval_text,
    medians_text,
    next_sentence,
    outcome_sentence,
    placebo_sentence,
    row_sentence,
    saved_text,
    suite_sentence,
    weighted_sentence,
)

__all__ = [
    "GATE_WORDS",
    "ArmSide",
    "Axis",
    "Decision",
    "GateFinding",
    "Note",
    "Options",
    "Row",
    "Single",
    "answer_sentence",
    "change_text",
    "decide",
    "describe",
    "failure_sentence",
    "gate",
    "gate_words",
    "interval_text",
    "medians_text",
    "next_sentence",
    "outcome_sentence",
    "placebo_sentence",
    "row_sentence",
    "saved_text",
    "shared_axis",
    "suite_sentence",
    "weighted_sentence",
]
