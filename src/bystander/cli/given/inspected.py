"""Options that inspect and leads share."""

from __future__ import annotations

from typing import Annotated

import typer

__all__ = ["FirstOption", "OrderOption", "RecordInspected", "StateArmOption", "StateOnlyOption", "ViewOption"]

OrderOption = Annotated[
    str | None,
    typer.Option("--order", metavar="WORD", help="The largest first by: change, whole, alone, calls or per-call."),
]
FirstOption = Annotated[int | None, typer.Option("--first", min=1, help="Show so many places; 15 by default.")]
ViewOption = Annotated[
    str | None,
    typer.Option(
        "--view",
        metavar="WORD",
        help="Time that is shown: elapsed (of the main thread), processor or waiting (of all).",
    ),
]
StateOnlyOption = Annotated[
    list[str] | None,
    typer.Option("--only", metavar="WORKLOAD", help="These workloads; may be repeated, * stands for any letters."),
]
StateArmOption = Annotated[
    str | None, typer.Option("--arm", help="One state alone; by default both arms of a comparison side by side.")
]
RecordInspected = Annotated[
    str | None, typer.Argument(help="A record, or one inspection such as tides-3/inspected-2; the newest by default.")
]
