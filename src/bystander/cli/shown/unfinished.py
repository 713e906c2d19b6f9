"""What is said of a record that did not come to its end, and the command that finishes it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NoReturn

import typer

from bystander.cli.exit_codes import INTERRUPTED
from bystander.cli.given.options import given
from bystander.cli.shown.said import say
from bystander.errors import NoSpaceError

__all__ = ["end_interrupted", "resumable"]


def end_interrupted(record: str | None, archive: Path | None, command: str = "observe") -> NoReturn:
    """Say what an interrupt left of a record, None for nothing, and end the program."""
    said = "nothing was recorded"
    if record:
        said = f"record {record} is unfinished. This finishes it:\n  {_finishing(record, archive, command)}"
    say(f"bystander: interrupted; {said}", err=True)
    raise typer.Exit(INTERRUPTED)


@contextmanager
def resumable(archive: Path | None, command: str = "observe") -> Iterator[None]:
    """Say how a record goes on that ended for want of space."""
    try:
        yield
    except NoSpaceError as error:
        if not error.record:
            raise
        raise NoSpaceError(f"{error}; make room, then {_finishing(error.record, archive, command)}") from None


def _finishing(record: str, archive: Path | None, command: str) -> str:
    from bystander.design import command_line

    return command_line(command, "--resume", record, given=given(archive=archive))
