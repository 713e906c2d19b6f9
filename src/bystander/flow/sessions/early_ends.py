"""Observations that end before their first trial leave a line: nobody then takes an older record for their answer."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from bystander.archive import Archive
from bystander.errors import ArchiveError, BystanderError, NoSpaceError
from bystander.flow.places import find_archive

__all__ = ["noted", "noting"]


@contextmanager
def noted(archive: Path | None, variables: Mapping[str, str], here: Path) -> Iterator[None]:
    """Leave a line in the archive, where there is one, when the study cannot even be read."""
    try:
        yield
    except BystanderError as error:
        with suppress(BystanderError):
            _note(find_archive(archive, variables, here), "", str(error))
        raise


@contextmanager
def noting(archive: Path, study: str, begun: Sequence[str]) -> Iterator[None]:
    """Leave a line in the archive when an observation ends before its first trial: nobody takes the last one for it.

    Parameters
    ----------
    begun : sequence of str
        Holds the record's name once there is one.
    """
    why = "interrupted"
    try:
        yield
    except BaseException as error:
        why = str(error) or why
        raise
    finally:
        if not begun:
            _note(archive, study, why)


def _note(archive: Path, study: str, why: str) -> None:
    with suppress(ArchiveError, NoSpaceError), Archive(archive, create=True) as kept:
        kept.note_early_end(study, (why.splitlines() or [""])[0])
