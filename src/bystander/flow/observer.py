"""Who is told what happens while something is done."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from bystander.design import ArmState, Study, TrialOutcome
from bystander.foresight import Progress

__all__ = ["Observer", "Silent"]


class Observer(Protocol):
    """Is told what happens."""

    def making(self, arm: str) -> None:
        """An arm is being made ready."""

    def made(self, arm: ArmState) -> None:
        """An arm is ready."""

    def tried(self, workload: str, arm: str, outcome: TrialOutcome) -> None:
        """A workload was tried once, before anything is recorded."""

    def trying(self, workload: str, block: int, blocks: int) -> None:
        """A trial block begins, which is not recorded; block counts from 0."""

    def begun(self, study: Study, record: str, expected_s: float) -> None:
        """The record is begun; the first block starts now."""

    def progressed(self, progress: Progress) -> None:
        """A block is whole."""

    def looked(self, blocks: int, decided: Sequence[str], live: int) -> None:
        """A look was taken after so many blocks: these workloads are decided and leave, so many go on."""

    def doing(self, what: str) -> None:
        """Something begins that takes a while."""

    def watched(self, workload: str, blocks: int, most: int, left_s: float) -> None:
        """So many blocks of a workload were watched side by side; the rest takes so long, at most."""

    def remark(self, sentence: str) -> None:
        """Something that the user should know."""


class Silent:
    """Listens and does nothing."""

    def making(self, arm: str) -> None:
        """Do nothing."""

    def made(self, arm: ArmState) -> None:
        """Do nothing."""

    def tried(self, workload: str, arm: str, outcome: TrialOutcome) -> None:
        """Do nothing."""

    def trying(self, workload: str, block: int, blocks: int) -> None:
        """Do nothing."""

    def begun(self, study: Study, record: str, expected_s: float) -> None:
        """Do nothing."""

    def progressed(self, progress: Progress) -> None:
        """Do nothing."""

    def looked(self, blocks: int, decided: Sequence[str], live: int) -> None:
        """Do nothing."""

    def doing(self, what: str) -> None:
        """Do nothing."""

    def watched(self, workload: str, blocks: int, most: int, left_s: float) -> None:
        """Do nothing."""

    def remark(self, sentence: str) -> None:
        """Do nothing."""
