"""`bystander leads`: what inspections showed, from what is kept; nothing is run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    ORDERS_OF_LEADS,
    ORDERS_OF_PLACES,
    VIEWS,
    Account,
    Beside,
    Down,
    LinesOf,
    Neighbours,
    PlaceTable,
    RecordHead,
    fated_account,
    fated_table,
)
from bystander.errors import UsageError
from bystander.exchange import accounts_csv, accounts_json, leads_sarif, paths_csv, places_json, within_json
from bystander.flow.inside.accounts import account_of, view_of
from bystander.flow.inside.edits import moved_on, with_edits
from bystander.flow.inside.kept import Choice, Kept, kept_inspections
from bystander.flow.inside.tables import sums_of_state, table_of_state
from bystander.flow.inside.within import Part, beside_of, down_of, lines_of, narrowed, neighbours_of
from bystander.flow.records.settled import judged_beside
from bystander.report import PICTURE_SUFFIXES, accounts_picture
from bystander.units import listed
from bystander.verdicts import decide, row_sentence

__all__ = ["Into", "Shown", "Wanted", "beside", "gone_into", "into_json", "leads", "leads_file", "leads_json"]


@dataclass(frozen=True)
class Wanted:
    """What of an inspection is asked for.

    Attributes
    ----------
    only : tuple of str
        Workloads, where a record has inspections of several.
    arm : str or None
        One state alone.
    view, order : str or None
        None for what is usual: that of the study's measure and by change for two states, elapsed time and by the whole
        for one.
    part : Part
        Which part of what was seen.
    """

    only: tuple[str, ...] = ()
    arm: str | None = None
    view: str | None = None
    order: str | None = None
    part: Part = field(default_factory=Part)

    def __post_init__(self) -> None:
        for option, word, known in (("--view", self.view, VIEWS), ("--order", self.order, ORDERS_OF_LEADS)):
            if word is not None and word not in known:
                raise UsageError(f'{option}: "{word}" is none; there are {", ".join(known)}')


@dataclass(frozen=True)
class Shown:
    """What there is to show: accounts of changes, or the places of one state; the other is empty, or None."""

    accounts: Sequence[Account]
    table: PlaceTable | None
    order: str


def leads(archive: Path, record: str | None, wanted: Wanted, number: int | None = None) -> Shown:
    """Return what was found.

    Parameters
    ----------
    record : str or None
        A record, which means its newest finished inspection, or an inspection by its name, such as tides-3/inspected-2;
        None for the newest record that has one.
    number : int, optional
        Of the inspection's run in that record.

    Raises
    ------
    UsageError
        When there is no such inspection.
    """
    kept, left_out = _part(_chosen(archive, record, wanted, number), wanted)
    judged = judged_beside(kept[0].head, archive)
    if _two(kept, wanted):
        accounts = [fated_account(one, judged) for one in _accounts(kept, left_out, wanted)]
        timed = timed_verdicts(archive, kept[0].head)
        told = [replace(one, timed=timed.get((one.workload, one.against, one.arm), "")) for one in accounts]
        return Shown(told, None, wanted.order or ORDERS_OF_LEADS[0])
    order = _order_of_places(wanted)
    table = table_of_state(kept[0], _arm(kept[0], wanted), wanted.view or VIEWS[0], order)
    table = fated_table(table, judged, kept[0].head.study.margin)
    return Shown((), replace(table, sentences=(*left_out[0], *table.sentences)), order)


def _accounts(kept: Sequence[Kept], left_out: Sequence[tuple[str, ...]], wanted: Wanted) -> list[Account]:
    """Return the account of each inspection of two states; one of a part says so, and has no verdict of the whole."""
    found = []
    for one, said in zip(kept, left_out, strict=True):
        told = account_of(with_edits(one), wanted.view)
        moved = moved_on(one, (lead.place for lead in told.leads))
        marked = tuple(replace(lead, moved_on=lead.place in moved) for lead in told.leads)
        found.append(replace(told, part=said, leads=marked))
    return found


def _part(kept: Sequence[Kept], wanted: Wanted) -> tuple[list[Kept], list[tuple[str, ...]]]:
    """Return the part of each inspection that is meant, and what is said of it."""
    parts = [narrowed(one, wanted.part, wanted.view or _usual_view(one, wanted)) for one in kept]
    return [one for one, _ in parts], [said for _, said in parts]


def _usual_view(kept: Kept, wanted: Wanted) -> str:
    return view_of(kept.head.study.measure) if _two([kept], wanted) else VIEWS[0]


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
    chosen = _chosen(archive, record, wanted, None)
    if len(chosen) > 1:
        names = listed([one.workload_name for one in chosen], 6)
        raise UsageError(f"one workload is gone into at a time; name it: --only, of {names}")
    (kept,), _ = _part(chosen, wanted)
    two = _two([kept], wanted)
    arm = None if two else _arm(kept, wanted)
    arms = [kept.against or 0, kept.arm] if arm is None else [arm]
    view = wanted.view or _usual_view(kept, wanted)
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
    return beside_of((now[0], _arm(now[0], wanted)), (then, _arm(then, wanted)), wanted.view or VIEWS[0])


def into_json(found: Into | None, hours: Beside | None = None) -> str:
    """Return the document of single places, or of two inspections beside each other."""
    found = found or Into()
    return within_json(found.neighbours, found.down, found.lines, hours)


def leads_json(shown: Shown) -> str:
    """Return the document of what there is to show."""
    return places_json(shown.table, shown.order) if shown.table else accounts_json(shown.accounts)


def leads_file(
    archive: Path, record: str | None, wanted: Wanted, suffix: str, spreadsheet: bool = False
) -> str | bytes:
    """Return the same as a file.

    Parameters
    ----------
    suffix : str
        .json; .csv, with one row a place of two states, one row a path of one; .sarif, one result a lead of two states;
        .svg, .png or .pdf, the accounts as a picture.
    """
    if suffix not in (".csv", ".json", ".sarif", *PICTURE_SUFFIXES):
        raise UsageError(f'--to: leads are written as .csv, .json, .sarif, .svg, .png or .pdf, not as "{suffix}"')
    if suffix == ".json":
        return leads_json(leads(archive, record, wanted))
    if suffix not in (".csv", ".json"):
        shown = leads(archive, record, wanted)
        if not shown.accounts:
            raise UsageError(
                f"--to FILE{suffix} holds leads, and one state alone has none; .csv and .json hold its places"
            )
        return leads_sarif(shown.accounts) if suffix == ".sarif" else accounts_picture(shown.accounts, suffix)
    kept, left_out = _part(_chosen(archive, record, wanted, None), wanted)
    if _two(kept, wanted):
        return accounts_csv(_accounts(kept, left_out, wanted), spreadsheet)
    return paths_csv(sums_of_state(kept[0], _arm(kept[0], wanted), wanted.view or VIEWS[0]), spreadsheet)


def timed_verdicts(archive: Path, head: RecordHead) -> dict[tuple[str, str, str], str]:
    """Return the verdict of each row of a record in words, by workload, reference and candidate."""
    if head.only_inspected:
        return {}
    with Archive(archive) as kept:
        rows = decide(kept.load(head.uuid)).primary
    return {(row.workload, row.against, row.arm): row_sentence(row) for row in rows}


def _chosen(archive: Path, record: str | None, wanted: Wanted, number: int | None) -> list[Kept]:
    with Archive(archive) as kept:
        return kept_inspections(kept, record, Choice(wanted.only, wanted.arm), number)


def _two(kept: Sequence[Kept], wanted: Wanted) -> bool:
    return kept[0].against is not None and wanted.arm is None


def _order_of_places(wanted: Wanted) -> str:
    if wanted.order == ORDERS_OF_LEADS[0]:
        raise UsageError("--order change is for two states; one state alone has none")
    return wanted.order or ORDERS_OF_PLACES[0]


def _arm(kept: Kept, wanted: Wanted) -> int:
    names = [arm.name for arm in kept.head.study.arms]
    if wanted.arm is None:
        return kept.arm
    if wanted.arm not in names or not kept.has(names.index(wanted.arm)):
        raise UsageError(f'{kept.name} has no arm "{wanted.arm}"')
    return names.index(wanted.arm)
