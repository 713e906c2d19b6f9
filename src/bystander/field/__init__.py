"""Where things happen: arms are made ready, trials run, the machine is described.

This room owns processes, checkouts and locks, and gives all of them back.
"""

from bystander.field.arms.apart import arm_words
from bystander.field.arms.folders import FolderState, fits, folder_state
from bystander.field.arms.git import Git
from bystander.field.arms.interpreters import interpreter_facts
from bystander.field.arms.making import ArmMaker, left_out_of
from bystander.field.arms.signs import build_signs, command_signs, environment_signs, program_signs
from bystander.field.arms.sources import package_release, source_text
from bystander.field.arms.study_folder import StudyFolder
from bystander.field.arms.variables import STANDARD_VARIABLES, new_salt, sealed, trial_environment
from bystander.field.kept.chosen import DEFAULT_KEPT_BYTES, Wanted, is_byte_code
from bystander.field.kept.edits import Edits
from bystander.field.kept.states import KeptOfRecord, KeptStates
from bystander.field.launching.leavings import LeftError, read_left
from bystander.field.launching.scratch import require_space
from bystander.field.locks import MachineLock
from bystander.field.machine import boot_id, machine_facts, machine_state
from bystander.field.trials import page_cache
from bystander.field.trials.commands import ReadyCommand, ReadyWorkload, Site, found_program, ready_command, ready_step
from bystander.field.trials.conditions import stub_for, under_conditions
from bystander.field.trials.hooks import CLOSELY, COUNTING, CloseHook, hooked, read_closely, read_counts
from bystander.field.trials.kinds import (
    KindInField,
    LaunchedRuns,
    Runs,
    kind_in_field,
    ready_workload,
    register_in_field,
)
from bystander.field.trials.launcher import Launcher
from bystander.field.trials.openings import CannotWatchError, Openings, source_of
from bystander.field.watching.watcher import COUNTS_ONLY, WAYS, FoundWay, Watcher, found_way

__all__ = [
    "CLOSELY",
    "COUNTING",
    "COUNTS_ONLY",
    "DEFAULT_KEPT_BYTES",
    "STANDARD_VARIABLES",
    "WAYS",
    "ArmMaker",
    "CannotWatchError",
    "CloseHook",
    "Edits",
    "FolderState",
    "FoundWay",
    "Git",
    "KeptOfRecord",
    "KeptStates",
    "KindInField",
    "LaunchedRuns",
    "Launcher",
    "LeftError",
    "MachineLock",
    "Openings",
    "ReadyCommand",
    "ReadyWorkload",
    "Runs",
    "Site",
    "StudyFolder",
    "Wanted",
    "Watcher",
    "arm_words",
    "boot_id",
    "build_signs",
    "command_signs",
    "environment_signs",
    "fits",
    "folder_state",
    "found_program",
    "found_way",
    "hooked",
    "interpreter_facts",
    "is_byte_code",
    "kind_in_field",
    "left_out_of",
    "machine_facts",
    "machine_state",
    "new_salt",
    "package_release",
    "page_cache",
    "program_signs",
    "read_closely",
    "read_counts",
    "read_left",
    "ready_command",
    "ready_step",
    "ready_workload",
    "register_in_field",
    "require_space",
    "sealed",
    "source_of",
    "source_text",
    "stub_for",
    "trial_environment",
    "under_conditions",
]
