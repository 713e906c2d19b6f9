"""What is compared and how: study, arms, workloads, blocks, trials, as frozen types; plans by seed."""

from bystander.design.answer_reader import ANSWER_KEYS
from bystander.design.choice import chosen_names, with_only
from bystander.design.keys import arm_key, digest, workload_key
from bystander.design.machine_states import Stretch, state_changes, stretches
from bystander.design.measures import MEASURES, OBSERVED, Measure, measure_named
from bystander.design.placeholders import fill_shell, filled_words, placeholder_names
from bystander.design.plain import from_plain, plain
from bystander.design.plan import DEPTHS, PlannedBlock, block_conditions, block_order, plan_rounds, shuffled
from bystander.design.study import (
    CALL_ANSWER_RULES,
    DEFAULT_BLOCKS,
    DEFAULT_LIMIT_S,
    DEFAULT_MARGIN,
    DEFAULT_OUTPUT_BYTES,
    DEFAULT_RISK,
    ONE_ARM_BLOCKS,
    PLACEBO,
    VARIED,
    AnswerRule,
    Arm,
    Callable,
    Study,
    Workload,
    with_placebo,
)
from bystander.design.study_reader import ARM_KEYS, STUDY_KEYS, WORKLOAD_KEYS, Surroundings, read_study
from bystander.design.trials import (
    ArmState,
    Record,
    RecordHead,
    Status,
    TrialArray,
    TrialOutcome,
    Trials,
)

__all__ = [
    "ANSWER_KEYS",
    "ARM_KEYS",
    "CALL_ANSWER_RULES",
    "DEFAULT_BLOCKS",
    "DEFAULT_LIMIT_S",
    "DEFAULT_MARGIN",
    "DEFAULT_OUTPUT_BYTES",
    "DEFAULT_RISK",
    "DEPTHS",
    "MEASURES",
    "OBSERVED",
    "ONE_ARM_BLOCKS",
    "PLACEBO",
    "STUDY_KEYS",
    "VARIED",
    "WORKLOAD_KEYS",
    "AnswerRule",
    "Arm",
    "ArmState",
    "Callable",
    "Measure",
    "PlannedBlock",
    "Record",
    "RecordHead",
    "Status",
    "Stretch",
    "Study",
    "Surroundings",
    "TrialArray",
    "TrialOutcome",
    "Trials",
    "Workload",
    "arm_key",
    "block_conditions",
    "block_order",
    "chosen_names",
    "digest",
    "fill_shell",
    "filled_words",
    "from_plain",
    "measure_named",
    "placeholder_names",
    "plain",
    "plan_rounds",
    "read_study",
    "shuffled",
    "state_changes",
    "stretches",
    "with_only",
    "with_placebo",
    "workload_key",
]
