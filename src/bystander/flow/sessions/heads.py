"""The head of a record that is begun here."""

from __future__ import annotations

import uuid

from bystander import __version__
from bystander.design import (
    OBSERVED,
    ONLY_INSPECTED,
    TIMED,
    ArmState,
    MachineFacts,
    Origin,
    RecordHead,
    Run,
    State,
    Study,
)
from bystander.field import StudyFolder

__all__ = ["begun_head"]


def begun_head(
    study: Study,
    home: StudyFolder,
    arms: tuple[ArmState, ...],
    machine: MachineFacts,
    began_wall_s: float,
    only_inspected: bool = False,
) -> RecordHead:
    """Return the head of a new record with its timed run, without trials yet; the archive gives it its name.

    Parameters
    ----------
    only_inspected : bool
        Whether the timed run stays empty, since the record is for inspections.
    """
    options = {ONLY_INSPECTED: True} if only_inspected else {}
    return RecordHead(
        uuid=str(uuid.uuid4()),
        name="",
        origin=Origin.OBSERVED,
        state=State.RUNNING,
        started_wall_s=began_wall_s,
        study=study,
        study_folder=str(home.path),
        study_file=home.file,
        arms=arms,
        workload_keys=(),
        measures=OBSERVED,
        machines=(machine,),
        version=__version__,
        runs=(Run(purpose=TIMED, seed=study.seed or 0, options=options, began_wall_s=began_wall_s),),
    )
