"""What inspections showed: which are meant, which part of them, and what there is to show."""

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
    PlaceTable,
    RecordHead,
    fated_account,
    fated_table,
    place_label,
)
from bystander.errors import UsageError
from bystander.exchange import accounts_json, places_json
from bystander.flow.chains.became import Became, became_of
from bystander.flow.leads.accounts import account_of, view_of
from bystander.flow.leads.beyond import expected_of, hinted, hints_of, surprised
from bystander.flow.leads.edits import moved_on, with_edits, with_hunks
from bystander.flow.leads.kept import Choice, Kept, kept_inspections
from bystander.flow.leads.tables import table_of_state
from bystander.flow.leads.tries import Tried, study_file_here, try_one
from bystander.flow.leads.within import (
    Part,
    narrowed,
)
from bystander.flow.records.settled import judged_beside
from bystander.units import listed
from bystander.verdicts import decide, row_sentence

__all__ = [
    "Shown",
    "Wanted",
    "accounts_of",
    "arm_of",
    "chosen_inspections",
    "is_two",
    "leads",
    "leads_json",
    "part_of",
    "shown_of",
    "tried",
    "usual_view",
]


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
    """What there is to show: accounts of changes, or the places of one state; the other is empty, or None.

    `testable` says whether a lead or a guess is there, and the study whose copy would test it.
    """

    accounts: Sequence[Account]
    table: PlaceTable | None
    order: str
    testable: bool


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
    return shown_of(archive, *part_of(chosen_inspections(archive, record, wanted, number), wanted), wanted)


def shown_of(archive: Path, kept: Sequence[Kept], left_out: Sequence[tuple[str, ...]], wanted: Wanted) -> Shown:
    """Return what there is to show of some inspections, or parts of them."""
    judged = judged_beside(kept[0].head, archive)
    here = study_file_here(kept[0].head) is not None
    if is_two(kept, wanted):
        accounts = [fated_account(one, judged) for one in accounts_of(kept, left_out, wanted)]
        accounts = [_with_became(archive, *pair) for pair in zip(kept, accounts, strict=True)]
        timed = timed_verdicts(archive, kept[0].head)
        told = [replace(one, timed=timed.get((one.workload, one.against, one.arm), "")) for one in accounts]
        testable = here and any(one.leads or one.hints for one in told)
        return Shown(told, None, wanted.order or ORDERS_OF_LEADS[0], testable)
    order, arm = _order_of_places(wanted), arm_of(kept[0], wanted)
    table = table_of_state(kept[0], arm, wanted.view or VIEWS[0], order)
    table = hinted(fated_table(table, judged, kept[0].head.study.margin), kept[0], arm)
    since = became_of(archive, kept[0].head, kept[0].made_wall_s, [row.label for row in table.rows], table.workload)
    table = replace(table, sentences=(*_first(since), *table.sentences), about=(*since.lines, *table.about))
    return Shown((), replace(table, sentences=(*left_out[0], *table.sentences)), order, here and bool(table.hints))


def _first(since: Became) -> tuple[str, ...]:
    return (since.before,) if since.before else ()


def _with_became(archive: Path, kept: Kept, account: Account) -> Account:
    """Return an account that says which of its leads were edited since, and that edits were kept since."""
    labels = [place_label(lead.place) for lead in account.leads]
    since = became_of(archive, kept.head, kept.made_wall_s, labels, account.workload)
    return replace(account, about=(*_first(since), *since.lines, *account.about))


def tried(archive: Path, record: str | None, wanted: Wanted, number: int) -> Tried:
    """Write a study that tests a lead or a guess, by its number; raises as `leads` and `try_one`."""
    kept, left_out = part_of(chosen_inspections(archive, record, wanted, None), wanted)
    if len(kept) > 1:
        names = listed([one.workload_name for one in kept], 6)
        raise UsageError(f"--try takes a lead of one workload; name it: --only, of {names}")
    shown = shown_of(archive, kept, left_out, wanted)
    if shown.table:
        return try_one(kept[0], arm_of(kept[0], wanted), (), shown.table.hints, number)
    account = shown.accounts[0]
    return try_one(kept[0], kept[0].arm, account.leads, account.hints, number)


def accounts_of(kept: Sequence[Kept], left_out: Sequence[tuple[str, ...]], wanted: Wanted) -> list[Account]:
    """Return the account of each inspection of two states; one of a part says so, and has no verdict of the whole."""
    found = []
    for one, said in zip(kept, left_out, strict=True):
        told = account_of(with_edits(one), wanted.view)
        moved = moved_on(one, (lead.place for lead in told.leads))
        marked = tuple(replace(lead, moved_on=lead.place in moved) for lead in told.leads)
        arms = [one.against or 0, one.arm]
        told = surprised(replace(told, part=said, leads=marked), expected_of(one, arms, told.view))
        told = with_hunks(told, with_edits(one).edits)
        found.append(replace(told, hints=tuple(hints_of(one, one.arm, told.view))))
    return found


def part_of(kept: Sequence[Kept], wanted: Wanted) -> tuple[list[Kept], list[tuple[str, ...]]]:
    """Return the part of each inspection that is meant, and what is said of it."""
    parts = [narrowed(one, wanted.part, wanted.view or usual_view(one, wanted)) for one in kept]
    return [one for one, _ in parts], [said for _, said in parts]


def usual_view(kept: Kept, wanted: Wanted) -> str:
    """Return whose time is meant where nobody says: the study's of two states, elapsed time of one."""
    return view_of(kept.head.study.measure) if is_two([kept], wanted) else VIEWS[0]


def leads_json(shown: Shown) -> str:
    """Return the document of what there is to show."""
    return places_json(shown.table, shown.order) if shown.table else accounts_json(shown.accounts)


def timed_verdicts(archive: Path, head: RecordHead) -> dict[tuple[str, str, str], str]:
    """Return the verdict of each row of a record in words, by workload, reference and candidate."""
    if head.only_inspected:
        return {}
    with Archive(archive) as kept:
        rows = decide(kept.load(head.uuid)).primary
    return {(row.workload, row.against, row.arm): row_sentence(row) for row in rows}


def chosen_inspections(archive: Path, record: str | None, wanted: Wanted, number: int | None) -> list[Kept]:
    """Return the inspections that are meant, as they are kept; raises as `leads`."""
    with Archive(archive) as kept:
        return kept_inspections(kept, record, Choice(wanted.only, wanted.arm), number)


def is_two(kept: Sequence[Kept], wanted: Wanted) -> bool:
    """Whether two states are meant, and not one of them."""
    return kept[0].against is not None and wanted.arm is None


def _order_of_places(wanted: Wanted) -> str:
    if wanted.order == ORDERS_OF_LEADS[0]:
        raise UsageError("--order change is for two states; one state alone has none")
    return wanted.order or ORDERS_OF_PLACES[0]


def arm_of(kept: Kept, wanted: Wanted) -> int:
    """Return the position of the one state that is meant; raise UsageError where it was not looked into."""
    names = [arm.name for arm in kept.head.study.arms]
    if wanted.arm is None:
        return kept.arm
    if wanted.arm not in names or not kept.has(names.index(wanted.arm)):
        raise UsageError(f'{kept.name} has no arm "{wanted.arm}"')
    return names.index(wanted.arm)
