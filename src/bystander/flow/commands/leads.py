"""`bystander leads`: what inspections showed, from what is kept; nothing is run."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    VIEWS,
    Beside,
    Down,
    LinesOf,
    Neighbours,
)
from bystander.errors import UsageError
from bystander.exchange import within_json
from bystander.flow.leads.edits import with_edits
from bystander.flow.leads.kept import Choice, kept_inspections
from bystander.flow.leads.shown import Wanted, arm_of, chosen_inspections, is_two, part_of, usual_view
from bystander.flow.leads.within import (
    beside_of,
    down_of,
    lines_of,
    neighbours_of,
)
from bystander.units import listed

__all__ = ["Into", "beside", "gone_into", "into_json"]


@dataclass(frozen=True)
class Into:
    """What there is to show of single places: the parts that were not asked for are empty."""

    neighbours: tuple[Neighbours, ...] = ()
    down: tuple[Down, ...] = ()
    lines: tuple[LinesOf, ...] = ()


def gone_into(
    archive: Path, record: str | None, wanted: Wanted, above: str | None, below: str | None, down: bool,
    lines: str | None,
) -> Into:  # fmt: skip
    """Return who calls a place, what it calls, the way down, or a place line by line; raises as `leads`.

    Parameters
    ----------
    above, below, lines : str or None
        Places, or patterns.
    down : bool
        The way to where the time is spent.
    """
    chosen = chosen_inspections(archive, record, wanted, None)
    if len(chosen) > 1:
        names = listed([one.workload_name for one in chosen], 6)
        raise UsageError(f"one workload is gone into at a time; name it: --only, of {names}")
    (kept,), _ = part_of(chosen, wanted)
    two = is_two([kept], wanted)
    arm = None if two else arm_of(kept, wanted)
    arms = [kept.against or 0, kept.arm] if arm is None else [arm]
    view = wanted.view or usual_view(kept, wanted)
    whole = with_edits(kept) if two else kept
    asked = [(place, upwards) for place, upwards in ((above, True), (below, False)) if place is not None]
    return Into(
        tuple(neighbours_of(whole, arm, wanted.view, place, upwards) for place, upwards in asked),
        tuple(down_of(kept, arms, view)) if down else (),
        tuple(lines_of(kept, arms, view, lines)) if lines is not None else (),
    )


def beside(archive: Path, record: str | None, wanted: Wanted, other: str) -> Beside:
    """Return one state beside that of another inspection; raises as `leads`.

    Parameters
    ----------
    other : str
        An inspection by its name, or a record.
    """
    with Archive(archive) as kept:
        choice = Choice(wanted.only, wanted.arm)
        now = kept_inspections(kept, record, choice)
        if len(now) > 1:
            names = listed([one.workload_name for one in now], 6)
            raise UsageError(f"one workload is held beside another hour at a time; name it: --only, of {names}")
        (then,) = kept_inspections(kept, other, Choice((now[0].workload_name,), wanted.arm))[:1]
    return beside_of((now[0], arm_of(now[0], wanted)), (then, arm_of(then, wanted)), wanted.view or VIEWS[0])


def into_json(found: Into | None, hours: Beside | None = None) -> str:
    """Return the document of single places, or of two inspections beside each other."""
    found = found or Into()
    return within_json(found.neighbours, found.down, found.lines, hours)
