"""`bystander settle PLACE FATE`: somebody judges a place once, in a file beside the study."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from bystander.archive import Archive
from bystander.design import (
    ACCEPTED,
    LINK_FATES,
    PLACE_FATES,
    VIEWS,
    Account,
    Change,
    SettledPlace,
    change_seconds,
    lead_brief,
    place_key,
    place_label,
)
from bystander.errors import UsageError
from bystander.exchange import settled_place_text
from bystander.flow.leads.accounts import account_of
from bystander.flow.leads.edits import with_edits
from bystander.flow.leads.kept import Choice, Kept, kept_inspections
from bystander.flow.leads.tables import table_of_state
from bystander.flow.leads.within import places_of
from bystander.flow.records.settled import add_settled
from bystander.units import duration_text, either, listed

__all__ = ["AskedJudge", "judge"]

_NAMED = 6


@dataclass(frozen=True)
class AskedJudge:
    """What is judged.

    Attributes
    ----------
    place : str
        A label, or another word that means one place.
    only : tuple of str
        The workload, where inspections of several met the place.
    record : str or None
        A record or an inspection; the newest by default.
    """

    place: str
    fate: str
    because: str
    only: tuple[str, ...] = ()
    arm: str | None = None
    record: str | None = None


def judge(archive: Path, asked: AskedJudge, today: date) -> tuple[Path, SettledPlace]:
    """Add an entry on a place to the file beside the study.

    Raises
    ------
    UsageError
        When it is not clear which place is meant, or no inspection met it.
    """
    if asked.fate not in PLACE_FATES:
        raise UsageError(
            f'FATE: "{asked.fate}" is none; of a row it is {ACCEPTED}, of a place {either(PLACE_FATES)}, of a link '
            f"{either(LINK_FATES)}"
        )
    if not asked.because.strip():
        raise UsageError("--because: say why; whoever finds it on the list again reads it")
    with Archive(archive) as kept:
        inspections = kept_inspections(kept, asked.record, Choice(asked.only, asked.arm))
    met = [(one, places) for one in inspections if (places := places_of(one, asked.place))]
    if not met:
        known = listed([one.workload_name for one in inspections], _NAMED)
        raise UsageError(f'no inspection of {known} met a place "{asked.place}"; bystander leads --all lists them')
    if len(met) > 1:
        names = listed([one.workload_name for one, _ in met], _NAMED)
        raise UsageError(f"{asked.place} was met in {names}; --only says in which workload it is meant")
    one, places = met[0]
    roots = tuple(arm.folder for arm in one.head.arms)
    keys = {place_key(place, roots) for place in places}
    if len(keys) > 1:
        labels = sorted({place_label(place) for place in places})
        raise UsageError(f'"{asked.place}" means {len(keys)} places; name one: {listed(labels, _NAMED)}')
    entry = _entry(one, keys.pop(), asked, today)
    return add_settled(one.head, archive, lambda before: settled_place_text(before, entry)), entry


def _entry(one: Kept, key: tuple[str, str], asked: AskedJudge, today: date) -> SettledPlace:
    study, because = one.head.study.name, asked.because.strip()
    if one.against is not None and asked.arm is None:
        cost, up_to, evidence = _of_two(account_of(with_edits(one)), key)
    else:
        cost, up_to, evidence = _of_one(one, one.arm if asked.arm is None else _arm(one, asked.arm), key)
    return SettledPlace(study, one.workload_name, *key, asked.fate, because, today, one.name, evidence, cost, up_to)


def _arm(one: Kept, name: str) -> int:
    return [arm.name for arm in one.head.study.arms].index(name)


def _of_two(account: Account, key: tuple[str, str]) -> tuple[float, float | None, str]:
    """Return what a place costs, how much more at most, and the evidence in words."""
    for lead in account.leads:
        if place_key(lead.place, account.roots) == key:
            up_to = None if lead.timed is None else _most(lead.seconds)
            return max(0.0, lead.seconds.after_s), up_to, lead_brief(lead)
    for one in account.places:
        if place_key(one.place, account.roots) == key:
            return one.whole.after_s, _most(one.whole), f"{key[0]}, {change_seconds(one.whole)}"
    return 0.0, None, f"{key[0]}, no time that was seen"


def _most(change: Change) -> float | None:
    """Return how much more a place costs at most; None where that is not bounded."""
    return max(0.0, change.high_s) if math.isfinite(change.high_s) else None


def _of_one(one: Kept, arm: int, key: tuple[str, str]) -> tuple[float, float | None, str]:
    table = table_of_state(one, arm, VIEWS[0], "whole")
    for row in table.rows:
        if place_key(row.place, (table.root,)) == key:
            seconds = 0.0 if math.isnan(row.whole_s) else row.whole_s
            calls = "" if row.calls is None else f", {row.calls:,} calls"
            return seconds, None, f"{key[0]}, {duration_text(seconds, 3)} of {duration_text(table.elapsed_s, 3)}{calls}"
    return 0.0, None, f"{key[0]}, no time that was seen"
