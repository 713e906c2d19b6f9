"""The study that a command goes on: the one beside us, or that of a command without a study."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from bystander.cli.given.options import here, variables
from bystander.errors import UsageError

if TYPE_CHECKING:
    from bystander.design import Study
    from bystander.flow.places import StudyFolder

__all__ = ["meant_study"]


def meant_study(
    command: Sequence[str], study: Path | None, archive: Path | None
) -> tuple[Study, StudyFolder, Path]:  # fmt: skip
    """Return the study that is meant, where it lies, and the archive that its record goes to."""
    from bystander.flow.places import load_study, new_archive
    from bystander.flow.quick.studies import compared_command_study
    from bystander.flow.sessions.early_ends import noted

    if command and study:
        raise UsageError("--study and a command are both given; keep the one that is meant")
    with noted(archive, variables(), here()):
        meant, home = compared_command_study(command, here()) if command else load_study(study, here())
    return meant, home, new_archive(archive, variables(), home)
