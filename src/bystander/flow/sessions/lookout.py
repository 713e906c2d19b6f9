"""Looks at a running observation: who is decided leaves the rounds, and nobody is told more than that."""

from __future__ import annotations

from collections.abc import Callable, Mapping
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

    def after_round(self, blocks: Mapping[int, int]) -> None:
        """Look at those workloads for which this is the time: these live ones have so many blocks now."""
        due = {w: n for w, n in blocks.items() if w in self.live and n in self._looks[w].blocks}
        if not self.study.stops_early or not due:
            return
        stopped = stopping(self._load())
        before, self.live = self.live, self.live & stopped.open_workloads(self.study)
        self._writer.looks(self._taken(stopped, due))
        left = sorted(before - self.live)
        # A floor leaves with the last workload that stands on it, whatever it has itself.
        at = {w: due.get(w, max(due.values())) for w in left}
        for count in sorted(set(due.values())):
            self._observer.looked(count, [self.study.workloads[w].name for w in left if at[w] == count], len(self.live))

    def _taken(self, stopped: Stopping, due: Mapping[int, int]) -> list[LookTaken]:
        """Return the rows that this look was for, and what came of it."""
        found = []
        for (workload, comparison), stop in sorted(stopped.stops.items()):
            looks = self._looks[workload]
            if workload in due and stop.blocks == due[workload]:
                level = looks.levels(self.study.risk)[looks.blocks.index(stop.blocks)]
                reason = stop.reason if stop.final else "goes-on"
                found.append(LookTaken(workload, comparison, stop.blocks, level, reason))
        return found
