"""Ladders as files, each by the suffix of its name."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from bystander.exchange import ladder_csv, ladder_json
from bystander.files import write_whole
from bystander.flow.places import refuse_unfit
from bystander.report import PICTURE_SUFFIXES, ladder_markdown, ladder_page, ladder_picture
from bystander.verdicts import Ladder

__all__ = ["LADDER_FORMATS", "refuse_ladder_targets", "write_ladders"]

Writer = Callable[[Ladder], str | bytes]


def _picture(suffix: str) -> Writer:
    return lambda made: ladder_picture(made, suffix)


LADDER_FORMATS: dict[str, Writer] = {
    ".html": ladder_page,
    ".md": ladder_markdown,
    ".json": ladder_json,
    ".csv": ladder_csv,
    **{suffix: _picture(suffix) for suffix in PICTURE_SUFFIXES},
}


def refuse_ladder_targets(targets: Sequence[Path]) -> None:
    """Raise UsageError when a file's name does not tell its kind, or its folder is missing."""
    refuse_unfit(targets, LADDER_FORMATS, "its kind")


def write_ladders(made: Ladder, targets: Sequence[Path]) -> None:
    """Write a ladder, each file whole or not at all."""
    for target in targets:
        write_whole(target, LADDER_FORMATS[target.suffix.lower()](made))
