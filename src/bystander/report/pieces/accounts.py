"""Where it changed: accounts that inspections told, as they stand in reports."""

from __future__ import annotations

import math
from dataclasses import dataclass

from bystander.design import AccountTold, Change, Comparison, LeadTold, change_seconds
from bystander.units import duration_text
from bystander.verdicts import Decision

__all__ = ["DrawnAccount", "DrawnLead", "drawn_account", "drawn_accounts"]

_EDGE = 2.5  # percent at both ends, so that no mark is cut


@dataclass(frozen=True)
class DrawnLead:
    """A lead with its places on the axis, in percent: before, after, and the interval about what is after."""

    told: LeadTold
    change: str
    before: float | None
    after: float | None
    low: float | None
    high: float | None


@dataclass(frozen=True)
class DrawnAccount:
    """An account with its leads on one axis of seconds from 0 to `end`."""

    name: str
    told: AccountTold
    leads: tuple[DrawnLead, ...]
    end: str


def drawn_accounts(decision: Decision) -> list[tuple[tuple[str, Comparison], DrawnAccount]]:
    """Return the accounts of a decision's rows in their order, as far as there are any, each with its row's key."""
    found = ((row, decision.accounts.get(row.key)) for row in decision.primary)
    return [(row.key, drawn_account(decision.name_of(row), told)) for row, told in found if told]


def drawn_account(name: str, told: AccountTold) -> DrawnAccount:
    """Return one account with its leads on one axis."""
    ends = [end for lead in told.leads if lead.seconds for end in _ends(lead.seconds) if math.isfinite(end)]
    most = max(ends, default=0.0)

    def at(seconds: float) -> float:
        share = seconds / most if most else 0.0
        return round(_EDGE + min(1.0, max(0.0, share)) * (100 - 2 * _EDGE), 2)

    leads = []
    for lead in told.leads:
        s = lead.seconds
        if s is None:
            leads.append(DrawnLead(lead, "", None, None, None, None))
            continue
        bounded = math.isfinite(s.low_s) and math.isfinite(s.high_s)
        low, high = (at(s.before_s + s.low_s), at(s.before_s + s.high_s)) if bounded else (None, None)
        leads.append(DrawnLead(lead, change_seconds(s), at(s.before_s), at(s.after_s), low, high))
    return DrawnAccount(name, told, tuple(leads), duration_text(most, 2))


def _ends(change: Change) -> tuple[float, float, float]:
    return change.before_s, change.after_s, change.before_s + change.high_s
