"""Looks at a running observation: who is decided leaves the rounds, and nobody is told more than that."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from bystander.design import LookTaken, Record, Study
from bystander.flow.observer import Observer
from bystander.verdicts import Stopping, stopping, study_looks

if TYPE_CHECKING:
    from bystander.archive.writer import RecordWriter

__all__ = ["Lookout"]


class Lookout:
    """Takes the planned looks between rounds, and knows which workloads go on.

    Parameters
    ----------
    load : callable
        Returns the record as it is on disk, which is what a decision will see.
    """

    def __init__(self, study: Study, load: Callable[[], Record], writer: RecordWriter, observer: Observer) -> None:
        self.study, self._load, self._writer, self._observer = study, load, writer, observer
        self.live = set(range(len(study.workloads)))
        self._looks = study_looks(study)

    def after_round(self, blocks: int) -> None:
        """Look, where this is the time for it: every live workload has so many blocks now."""
        if not self.study.stops_early or blocks not in self._looks.blocks or not self.live:
            return
        stopped = stopping(self._load())
        before, self.live = self.live, self.live & stopped.open_workloads(self.study)
        self._writer.looks(self._taken(stopped, blocks))
        decided = [self.study.workloads[w].name for w in sorted(before - self.live)]
        self._observer.looked(blocks, decided, len(self.live))

    def _taken(self, stopped: Stopping, blocks: int) -> list[LookTaken]:
        """Return the rows that this look was for, and what came of it."""
        look = self._looks.blocks.index(blocks)
        level = self._looks.levels(self.study.risk)[look]
        return [
            LookTaken(workload, comparison, blocks, level, stop.reason if stop.final else "goes-on")
            for (workload, comparison), stop in sorted(stopped.stops.items())
            if stop.blocks == blocks
        ]
