"""A record made ready for comparing: its rows and readings, each worked out once however often they are asked for."""

from __future__ import annotations

from bystander.design import Comparison, Measure, Record
from bystander.verdicts.compared.readings import Readings, readings_of
from bystander.verdicts.compared.row_trials import RowTrials, row_trials
from bystander.verdicts.compared.together import Neighbours

__all__ = ["ComparedRecord", "main_measure"]


def main_measure(record: Record) -> Measure:
    """Return the study's measure, or the first one that a record of imported readings has."""
    measures = record.head.measures
    return next((measure for measure in measures if measure.name == record.head.study.measure), measures[0])


class ComparedRecord:
    """A record with its rows by comparison, and its readings by measure."""

    def __init__(self, record: Record) -> None:
        self.record = record
        self._neighbours = Neighbours(record)
        self._rows: dict[Comparison, list[RowTrials]] = {}
        self._readings: dict[tuple[str, Comparison | None], Readings] = {}

    def rows(self, comparison: Comparison) -> list[RowTrials]:
        """Return the trials of each workload under both arms, in the study's order."""
        if comparison not in self._rows:
            self._rows[comparison] = row_trials(self.record, comparison, self._neighbours)
        return self._rows[comparison]

    def readings(self, measure: Measure, comparison: Comparison) -> Readings:
        """Return a measure of all trials; only of phases it matters which arms are compared."""
        key = measure.name, comparison if measure.is_phase else None
        if key not in self._readings:
            self._readings[key] = readings_of(self.record, measure, comparison)
        return self._readings[key]
