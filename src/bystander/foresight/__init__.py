"""What an observation will take, and what it could show: from trials just tried or an earlier record. Pure."""

from bystander.foresight.ceilings import blocks_for_ceilings, ceiling_sentences, refuse_few_trials
from bystander.foresight.checked import Checked, CheckedCommand
from bystander.foresight.levels import WorkloadLevels, level_share, level_text, levels_sentences, of_text
from bystander.foresight.links import links_sentences, refuse_too_few, unseen
from bystander.foresight.noise import record_noise, tried_noise
from bystander.foresight.outlook import Outlook, measure_advice, outlooks
from bystander.foresight.pace import BETWEEN_S, Pace, Progress
from bystander.foresight.remarks import (
    alike,
    difference_sentence,
    disturbance,
    left_behind,
    shims,
    spaced,
    timers,
    too_few,
    unread_answers,
    unwatched,
)
from bystander.foresight.repetition import long_trials, repetition_advice
from bystander.foresight.sharing import Shares, shared_blocks, steadied
from bystander.foresight.tellings import (
    printed_sentences,
    refuse_first_try,
    require_measure,
    told_sentences,
    unprinted_sentences,
    work_sentences,
)
from bystander.foresight.tried import FEWEST_BLOCKS, MOST_BLOCKS, AnswerDifference, TrialBlock, Tried

__all__ = [
    "BETWEEN_S",
    "FEWEST_BLOCKS",
    "MOST_BLOCKS",
    "AnswerDifference",
    "Checked",
    "CheckedCommand",
    "Outlook",
    "Pace",
    "Progress",
    "Shares",
    "TrialBlock",
    "Tried",
    "WorkloadLevels",
    "alike",
    "blocks_for_ceilings",
    "ceiling_sentences",
    "difference_sentence",
    "disturbance",
    "left_behind",
    "level_share",
    "level_text",
    "levels_sentences",
    "links_sentences",
    "long_trials",
    "measure_advice",
    "of_text",
    "outlooks",
    "printed_sentences",
    "record_noise",
    "refuse_few_trials",
    "refuse_first_try",
    "refuse_too_few",
    "repetition_advice",
    "require_measure",
    "shared_blocks",
    "shims",
    "spaced",
    "steadied",
    "timers",
    "told_sentences",
    "too_few",
    "tried_noise",
    "unprinted_sentences",
    "unread_answers",
    "unseen",
    "unwatched",
    "work_sentences",
]
