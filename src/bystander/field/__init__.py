"""Where things happen: arms are made ready, trials run, the machine is described.

This room owns processes, checkouts and locks, and gives all of them back.
"""

from bystander.field import page_cache
from bystander.field.arms import ArmMaker
from bystander.field.commands import ReadyCommand, ReadyWorkload, ready_command, ready_workload
from bystander.field.conditions import stub_for, under_conditions
from bystander.field.doubts import build_doubts, command_doubts, environment_doubts, program_doubts
from bystander.field.environment import STANDARD_VARIABLES, trial_environment
from bystander.field.folders import FolderState, fits, folder_state
from bystander.field.git import Git
from bystander.field.interpreters import interpreter_facts
from bystander.field.launcher import Launcher
from bystander.field.locks import MachineLock
from bystander.field.machine import boot_id, machine_facts, machine_state
from bystander.field.openings import CannotWatchError, Openings, source_of
from bystander.field.surroundings import StudyFolder

__all__ = [
    "STANDARD_VARIABLES",
    "ArmMaker",
    "CannotWatchError",
    "FolderState",
    "Git",
    "Launcher",
    "MachineLock",
    "Openings",
    "ReadyCommand",
    "ReadyWorkload",
    "StudyFolder",
    "boot_id",
    "build_doubts",
    "command_doubts",
    "environment_doubts",
    "fits",
    "folder_state",
    "interpreter_facts",
    "machine_facts",
    "machine_state",
    "page_cache",
    "program_doubts",
    "ready_command",
    "ready_workload",
    "source_of",
    "stub_for",
    "trial_environment",
    "under_conditions",
]
