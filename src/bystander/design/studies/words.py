"""The words of a study that are chosen from a few."""

from __future__ import annotations

from enum import StrEnum

__all__ = ["Condition", "Start", "StoppingRule"]


class Start(StrEnum):
    """Where the files of a workload are before each trial."""

    WHEREVER = ""
    FROM_DISK = "from-disk"
    FROM_MEMORY = "from-memory"
    IN_PROCESS = "in-process"

    @property
    def places_files(self) -> bool:
        """Whether files are put somewhere before each trial."""
        return self in (Start.FROM_DISK, Start.FROM_MEMORY)


class StoppingRule(StrEnum):
    """When a row has been decided.

    At the planned look that decides it, the same with levels that hold under any dependence, or when all blocks ran.
    """

    LOOKS = "looks"
    STRICT = "strict"
    FIXED = "fixed"


class Condition(StrEnum):
    """What can be drawn anew for each block, alike for all its arms."""

    HASH_SEED = "hash seed"
    ENVIRONMENT_SIZE = "environment size"
    FOLDER_DEPTH = "folder depth"
