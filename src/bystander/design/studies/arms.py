"""Arms: states of the code or configuration."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from bystander.design.studies.workloads import Workload

__all__ = ["PLACEBO", "Arm"]

PLACEBO = "placebo"  # the name of that arm


@dataclass(frozen=True)
class Arm:
    """One state of the code or configuration.

    Attributes
    ----------
    folder : str
        Where it lies, relative to the study; "." is the working tree.
    revision : str or None
        A git revision to check out apart instead.
    environment : mapping
        Variables set for its trials and build steps.
    settings : mapping
        Values for placeholders.
    build : tuple of str
        Commands that install or compile, run once.
    command : mapping
        Commands by workload that replace the study's; the key "" stands for all workloads.
    in_place : bool
        Run in the folder itself, without a snapshot (observations without a study).
    placebo : bool
        Made like the reference, apart from it; what it shows is noise.
    weigh : str
        What is left out of this arm, only to see what it weighs: its answers may differ. "" for nothing.
    filters : bool
        Whether git may run the filters that the repository's configuration names, when this arm is laid out.
    """

    name: str
    folder: str = "."
    revision: str | None = None
    environment: Mapping[str, str] = field(default_factory=dict)
    settings: Mapping[str, str] = field(default_factory=dict)
    build: tuple[str, ...] = ()
    command: Mapping[str, str] = field(default_factory=dict)
    in_place: bool = False
    placebo: bool = False
    weigh: str = ""
    filters: bool = False

    def command_for(self, workload: Workload) -> str:
        """Return the command template that this arm runs for a workload; "" where it runs none."""
        return self.command.get(workload.base, self.command.get("", workload.template))
