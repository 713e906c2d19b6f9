"""`bystander leads`: what inspections showed, from what is kept; nothing is run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from bystander.archive import Archive
from bystander.design import ORDERS_OF_LEADS, ORDERS_OF_PLACES, VIEWS, Account, PlaceTable, RecordHead
from bystander.errors import UsageError
from bystander.exchange import accounts_csv, accounts_json, paths_csv, places_json
from bystander.flow.inside.accounts import account_of
from bystander.flow.inside.edits import with_edits
from bystander.flow.inside.kept import Choice, Kept, kept_inspections
from bystander.flow.inside.tables import sums_of_state, table_of_state
from bystander.verdicts import decide, row_sentence

__all__ = ["Shown", "Wanted", "leads", "leads_file", "leads_json"]


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
    """

    only: tuple[str, ...] = ()
    arm: str | None = None
    view: str | None = None
    order: str | None = None

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
    kept = _chosen(archive, record, wanted, number)
    if _two(kept, wanted):
        accounts = [account_of(with_edits(one), wanted.view) for one in kept]
        timed = timed_verdicts(archive, kept[0].head)
        told = [replace(one, timed=timed.get((one.workload, one.against, one.arm), "")) for one in accounts]
        return Shown(told, None, wanted.order or ORDERS_OF_LEADS[0])
    order = _order_of_places(wanted)
    return Shown((), table_of_state(kept[0], _arm(kept[0], wanted), wanted.view or VIEWS[0], order), order)


def leads_json(shown: Shown) -> str:
    """Return the document of what there is to show."""
    return places_json(shown.table, shown.order) if shown.table else accounts_json(shown.accounts)


def leads_file(archive: Path, record: str | None, wanted: Wanted, suffix: str, spreadsheet: bool = False) -> str:
    """Return the same as a file: .json; or .csv, with one row a place of two states, one row a path of one."""
    if suffix not in (".csv", ".json"):
        raise UsageError(f'--to: leads are written as .csv or .json, not as "{suffix}"')
    if suffix == ".json":
        return leads_json(leads(archive, record, wanted))
    kept = _chosen(archive, record, wanted, None)
    if _two(kept, wanted):
        return accounts_csv([account_of(with_edits(one), wanted.view) for one in kept], spreadsheet)
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
