"""The head of a record that is begun here, and what must hold of one that is gone on with."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from bystander import __version__
from bystander.design import (
    OBSERVED,
    ONLY_INSPECTED,
    TIMED,
    ArmState,
    MachineFacts,
    Origin,
    Provenance,
    RecordHead,
    Run,
    State,
    Study,
)
from bystander.errors import ArmError, UsageError
from bystander.field import StudyFolder, new_salt, sealed

__all__ = ["begun_head", "home_of", "refuse_foreign"]


def refuse_foreign(head: RecordHead, instead: str) -> None:
    """Raise UsageError for a record that somebody else's file made: it holds commands; `instead` says what to do."""
    if not head.observed_here:
        how = head.provenance or Provenance.IMPORTED
        raise UsageError(f"record {head.name} was {how}, and what was {how} is never run; {instead}")


def home_of(head: RecordHead) -> StudyFolder:
    """Return the folder of a record's study; raise ArmError when it is gone."""
    home = StudyFolder(Path(head.study_folder))
    if not home.path.is_dir():
        raise ArmError(f"the study's folder {home.path} is gone")
    return home


def begun_head(
    study: Study,
    home: StudyFolder,
    arms: tuple[ArmState, ...],
    machine: MachineFacts,
    began_wall_s: float,
    only_inspected: bool = False,
    options: Mapping[str, Any] | None = None,
) -> RecordHead:
    """Return the head of a new record with its timed run, without trials yet; the archive gives it its name.

    Parameters
    ----------
    only_inspected : bool
        Whether the timed run stays empty, since the record is for inspections.
    options : mapping, optional
        What the timed run was asked for besides.
    """
    options = {**(options or {}), **({ONLY_INSPECTED: True} if only_inspected else {})}
    salt = new_salt()
    return RecordHead(
        uuid=str(uuid.uuid4()),
        name="",
        origin=Origin.OBSERVED,
        state=State.RUNNING,
        started_wall_s=began_wall_s,
        study=study,
        study_folder=str(home.path),
        study_file=home.file,
        arms=tuple(_sealed(study, arm, salt) for arm in arms),
        workload_keys=(),
        measures=OBSERVED,
        machines=(machine,),
        version=__version__,
        runs=(Run(purpose=TIMED, seed=study.seed or 0, options=options, began_wall_s=began_wall_s),),
    )


def _sealed(study: Study, arm: ArmState, salt: str) -> ArmState:
    """Return an arm as it is kept: variables that were taken over as digests, or by name only."""
    kept = sealed(arm.facts.environment, study.keep_environment, study.secret_environment, salt)
    return replace(arm, facts=replace(arm.facts, environment=kept))
