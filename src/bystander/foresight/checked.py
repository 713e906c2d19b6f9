"""What a check found."""

from __future__ import annotations

from dataclasses import dataclass

from bystander.design import ArmState, MachineFacts, Study
from bystander.foresight.outlook import Outlook
from bystander.foresight.tried import AnswerDifference, Tried

__all__ = ["Checked", "CheckedCommand"]


@dataclass(frozen=True)
class CheckedCommand:
    """What is run of a workload under an arm: the program's file, its words, and both as people read them."""

    workload: int
    arm: int
    path: str
    words: tuple[str, ...]
    text: str


@dataclass(frozen=True)
class Checked:
    """What a check found.

    Attributes
    ----------
    tried : tuple of Tried
        Empty where nothing was run.
    expected_s : float or None
        How long the observation will take, in seconds; None where nothing was run.
    outlooks : tuple of Outlook
        What the study could show, from `placebo_blocks` blocks or from a record; empty where that was not tried.
    noise_of : str
        The record that the outlooks are from; "" where they are from blocks just tried.
    change : float
        The change that the outlooks' blocks are for, as a share.
    remarks : tuple of str
        What the user should know before the start, one sentence each.
    """

    study: Study
    arms: tuple[ArmState, ...]
    commands: tuple[CheckedCommand, ...]
    tried: tuple[Tried, ...]
    differences: tuple[AnswerDifference, ...]
    machine: MachineFacts
    expected_s: float | None
    outlooks: tuple[Outlook, ...]
    placebo_blocks: int
    remarks: tuple[str, ...]
    change: float = 0.0
    noise_of: str = ""

    @property
    def failures(self) -> tuple[Tried, ...]:
        """Trials that did not end well."""
        return tuple(one for one in self.tried if not one.well)
