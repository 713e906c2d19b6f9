"""From readings and design to estimates, verdicts and notes: what a record says, as frozen types."""

from bystander.verdicts.bisected import Answer, Ask, Bisected, Commit, Ends, Kind, Outcome, Searched, Stage, Step
from bystander.verdicts.ceilings import SESSIONS_ENOUGH, CeilingRow
from bystander.verdicts.compared.noise import Noise, noises
from bystander.verdicts.compared.spreads import Spread, spreads
from bystander.verdicts.decided.bisect import Rules, bisecting
from bystander.verdicts.decided.decide import Options, decide
from bystander.verdicts.decided.distribution import CONFIDENCE
from bystander.verdicts.decided.gate import GateFinding, gate, gate_ask, gate_words, refuse_gate
from bystander.verdicts.decided.ladder import ladder
from bystander.verdicts.decided.settled import acceptable, least_worse, with_settled, worse_end
from bystander.verdicts.decided.since import same_code_change, since
from bystander.verdicts.described.blocks import BlockSeries
from bystander.verdicts.described.over_time import TrialsToSee, over_time_lines, rows_over_time, trials_to_see
from bystander.verdicts.described.single import Single, describe
from bystander.verdicts.ladders import Disagreement, Ladder, Rung, SoFar
from bystander.verdicts.repeated import FEWEST_BATCHES, Key, RecordTests, Repeated, repeated, repeated_sentence
from bystander.verdicts.settled import SettledRow, Standing
from bystander.verdicts.since import Change, Since, SinceRow
from bystander.verdicts.tested.stopping import PLACEBO_RISK, Stopping, looks_for, stopping, study_looks
from bystander.verdicts.types import ArmSide, Decision, Distribution, GateAsk, Note, Row, Shift, Stop
from bystander.verdicts.wholes import LoadPart, SumsOfLoad, Whole
from bystander.verdicts.worded.axis import Axis, RatioAxis, shared_axis
from bystander.verdicts.worded.bisect import bisected_lines, step_change
from bystander.verdicts.worded.ceilings import (
    beyond_text,
    ceiling_notes,
    ceiling_text,
    ceilings_sentence,
    minutes_sentence,
)
from bystander.verdicts.worded.gate import gate_sentences
from bystander.verdicts.worded.ladder import (
    edit_text,
    gain_of,
    ladder_axis,
    ladder_lines,
    ladder_notes,
    rung_state,
    so_far_text,
    whole_text,
    whole_verdict,
)
from bystander.verdicts.worded.next_steps import next_sentence, repeat_lines, see_sentence, what_to_do
from bystander.verdicts.worded.sentences import (
    answer_sentence,
    blocks_text,
    change_text,
    compared_text,
    failure_sentence,
    interval_text,
    lead_text,
    looks_sentence,
    medians_text,
    memory_sentence,
    outcome_sentence,
    placebo_sentence,
    quoted_texts,
    row_sentence,
    saved_text,
    settled_sentence,
    suite_sentence,
)
from bystander.verdicts.worded.since import apart_text, since_lines
from bystander.verdicts.worded.steps import StepAxis, step_axis
from bystander.verdicts.worded.whole import contribution_text, whole_lines
from bystander.verdicts.words import CeilingVerdict, Order, Pairing, Relevance, Scale, StopReason, Verdict

__all__ = [
    "CONFIDENCE",
    "FEWEST_BATCHES",
    "PLACEBO_RISK",
    "SESSIONS_ENOUGH",
    "Answer",
    "ArmSide",
    "Ask",
    "Axis",
    "Bisected",
    "BlockSeries",
    "CeilingRow",
    "CeilingVerdict",
    "Change",
    "Commit",
    "Decision",
    "Disagreement",
    "Distribution",
    "Ends",
    "GateAsk",
    "GateFinding",
    "Key",
    "Kind",
    "Ladder",
    "LoadPart",
    "Noise",
    "Note",
    "Options",
    "Order",
    "Outcome",
    "Pairing",
    "RatioAxis",
    "RecordTests",
    "Relevance",
    "Repeated",
    "Row",
    "Rules",
    "Rung",
    "Scale",
    "Searched",
    "SettledRow",
    "Shift",
    "Since",
    "SinceRow",
    "Single",
    "SoFar",
    "Spread",
    "Stage",
    "Standing",
    "Step",
    "StepAxis",
    "Stop",
    "StopReason",
    "Stopping",
    "SumsOfLoad",
    "TrialsToSee",
    "Verdict",
    "Whole",
    "acceptable",
    "answer_sentence",
    "apart_text",
    "beyond_text",
    "bisected_lines",
    "bisecting",
    "blocks_text",
    "ceiling_notes",
    "ceiling_text",
    "ceilings_sentence",
    "change_text",
    "compared_text",
    "contribution_text",
    "decide",
    "describe",
    "edit_text",
    "failure_sentence",
    "gain_of",
    "gate",
    "gate_ask",
    "gate_sentences",
    "gate_words",
    "interval_text",
    "ladder",
    "ladder_axis",
    "ladder_lines",
    "ladder_notes",
    "lead_text",
    "least_worse",
    "looks_for",
    "looks_sentence",
    "medians_text",
    "memory_sentence",
    "minutes_sentence",
    "next_sentence",
    "noises",
    "outcome_sentence",
    "over_time_lines",
    "placebo_sentence",
    "quoted_texts",
    "refuse_gate",
    "repeat_lines",
    "repeated",
    "repeated_sentence",
    "row_sentence",
    "rows_over_time",
    "rung_state",
    "same_code_change",
    "saved_text",
    "see_sentence",
    "settled_sentence",
    "shared_axis",
    "since",
    "since_lines",
    "so_far_text",
    "spreads",
    "step_axis",
    "step_change",
    "stopping",
    "study_looks",
    "suite_sentence",
    "trials_to_see",
    "what_to_do",
    "whole_lines",
    "whole_text",
    "whole_verdict",
    "with_settled",
    "worse_end",
]
