"""Files that a command writes for others: --to, and a summary to append to."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

__all__ = ["PictureOption", "SummaryOption", "ToOption"]

ToOption = Annotated[
    list[Path] | None,
    typer.Option(
        "--to",
        help="Write this file; may be repeated. Its suffix says what: .html, .md, .json, .csv, .xml (JUnit), "
        ".openmetrics; pictures: .svg, .png, .pdf.",
    ),
]
PictureOption = Annotated[
    str | None,
    typer.Option(
        "--picture",
        metavar="WHAT",
        help="What a picture shows: forest (every row, the default), distribution (every trial), blocks (in time "
        "order); --only says of which rows.",
    ),
]
SummaryOption = Annotated[
    Path | None, typer.Option("--summary", help="Append the report as Markdown to this file: a pipeline shows it.")
]
