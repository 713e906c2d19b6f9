"""What was judged once: leads and places that need not top the list again, unless they cost more than they did."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from bystander.design.inside.account_words import AccountTold
from bystander.design.inside.accounts import Account, Lead
from bystander.design.inside.places import PlaceTable, place_label, short_file
from bystander.design.inside.watched import Place
from bystander.design.studies.settled import LEFT_ALONE, TRY, SettledPlace
from bystander.units import duration_text, listed

__all__ = ["fated_account", "fated_table", "fated_told", "place_key"]

_NAMED = 4
Entries = Mapping[tuple[str, str], SettledPlace]


def place_key(place: Place, roots: Sequence[str]) -> tuple[str, str]:
    """Return what tells a place from others, whatever the arm's folder: its label, and its file from there on."""
    file = place.file
    for root in roots:
        file = short_file(file, root)
    return place_label(place), file


def _of(entries: Iterable[SettledPlace], workload: str) -> Entries:
    """Return the last entry on each place of a workload."""
    return {one.key: one for one in entries if one.workload == workload}


def fated_account(account: Account, entries: Sequence[SettledPlace]) -> Account:
    """Return an account whose settled leads come last, and which says what those left alone leave to win.

    A lead is unsettled again where its interval lies wholly beyond what it cost when it was settled, and the margin.
    """
    known = _of(entries, account.workload)
    leads = [_fated_lead(lead, known.get(place_key(lead.place, account.roots)), account) for lead in account.leads]
    if not any(lead.fate for lead in leads):
        return account
    leads.sort(key=lambda lead: lead.settled)
    settled = [lead for lead in leads if lead.settled]
    alone = [lead for lead in settled if known[place_key(lead.place, account.roots)].fate == LEFT_ALONE]
    said = []
    if alone:
        seconds = sum(lead.seconds.after_s for lead in alone)
        rest = max(0.0, account.whole.after_s - seconds)
        names = listed([place_label(lead.place) for lead in alone], _NAMED)
        said = [
            f"Left alone: {names}, {duration_text(seconds, 2)} of "
            f"{duration_text(account.whole.after_s, 2)}; what is left to win is {duration_text(rest, 2)} at most."
        ]
    return replace(account, leads=tuple(leads), about=(*said, *account.about))


def _fated_lead(lead: Lead, entry: SettledPlace | None, account: Account) -> Lead:
    if entry is None:
        return lead
    allowed = entry.up_to_s if entry.up_to_s is not None else math.inf
    grown = lead.timed is not None and lead.seconds.low_s > allowed + account.margin_s
    return replace(lead, fate=_said(entry, allowed if grown else None), settled=entry.fate != TRY and not grown)


def _said(entry: SettledPlace, more_than_s: float | None = None) -> str:
    """Say what was judged, when and why; and what it cost then, where it costs more now."""
    more = "" if more_than_s is None else f", but it costs more than the {duration_text(more_than_s, 3)} of then"
    return f"{entry.fate} since {entry.day}{more}: {entry.because} ({entry.record})"


def fated_table(table: PlaceTable, entries: Sequence[SettledPlace], margin: float) -> PlaceTable:
    """Return the places of one state, those that are settled last; what those left alone leave to win is said.

    A place is unsettled again where it takes more than it did, and the margin: of another hour, so that is a hint.
    """
    known = _of(entries, table.workload)
    rows, alone = [], []
    for row in table.rows:
        entry = known.get(place_key(row.place, (table.root,)))
        if entry is None:
            rows.append(row)
            continue
        grown = row.whole_s > entry.cost_s * (1 + margin)
        settled = entry.fate != TRY and not grown
        rows.append(replace(row, fate=_said(entry, entry.cost_s if grown else None), settled=settled))
        if settled and entry.fate == LEFT_ALONE:
            alone.append(rows[-1])
    if not any(row.fate for row in rows):
        return table
    said: tuple[str, ...] = ()
    if alone:
        seconds = sum(row.alone_s for row in alone if not math.isnan(row.alone_s))
        total = table.elapsed_s if table.view == "elapsed" else table.cpu_s
        names = listed([row.label for row in alone], _NAMED)
        said = (
            f"Left alone: {names}, {duration_text(seconds, 2)} of {duration_text(total, 2)} by themselves; what is "
            f"left to win is {duration_text(max(0.0, total - seconds), 2)} at most.",
        )
    rows.sort(key=lambda row: row.settled)
    return replace(table, rows=tuple(rows), sentences=(*said, *table.sentences))


def fated_told(told: AccountTold, entries: Sequence[SettledPlace]) -> AccountTold:
    """Return an account in words whose settled leads come last, each with what was judged of it."""
    known = _of(entries, told.workload)
    leads = []
    for lead in told.leads:
        entry = known.get((lead.label.rpartition(" > ")[2], lead.where.rpartition(":")[0]))
        leads.append(replace(lead, fate=_said(entry)) if entry else lead)
    if not any(lead.fate for lead in leads):
        return told
    leads.sort(key=lambda lead: bool(lead.fate) and not lead.fate.startswith(TRY))
    return replace(told, leads=tuple(leads))
