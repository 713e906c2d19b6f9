"""An account in words as evidence: how it is packed, and written into documents."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

from bystander.design import ACCOUNT, AccountTold, Change, LeadTold
from bystander.evidence.kinds import register_json_kind

__all__ = ["ACCOUNT_KIND"]

_TEXTS = ("label", "where", "brief", "said", "calls")
_NAMES = ("workload", "against", "arm", "run", "advice")
_LISTS = ("sentences", "subjects", "packages", "about")


def told_table(told: AccountTold) -> dict[str, Any]:
    """Return an account as plain values; what is not bounded is null."""
    leads = [
        {
            **{name: getattr(lead, name) for name in _TEXTS},
            "seconds": lead.seconds and [_finite(number) for number in lead.seconds],
            "hunk": list(lead.hunk),
        }
        for lead in told.leads
    ]
    return {**asdict(told), "leads": leads}  # a fate is no part of what was seen


def _finite(number: float) -> float | None:
    return number if math.isfinite(number) else None


def _change(told: Any) -> Change | None:
    if told is None:
        return None
    before, after, change, low, high = told
    seconds = [float(number) for number in (before, after, change)]
    ends = (-math.inf if low is None else float(low), math.inf if high is None else float(high))
    if not all(map(math.isfinite, seconds)) or any(map(math.isnan, ends)):
        raise ValueError("account: seconds of a lead are no numbers")
    return Change(seconds[0], seconds[1], seconds[2], *ends)


def told_from_table(table: dict[str, Any]) -> AccountTold:
    """Return the account of such a table; raise ValueError, KeyError or TypeError when it is none."""
    leads = []
    for one in table["leads"]:
        label, where, brief, said, calls = (str(one[name]) for name in _TEXTS)
        hunk = tuple(str(line) for line in one.get("hunk", ()))  # inspections of before kept none
        leads.append(LeadTold(label, where, brief, said, calls, _change(one["seconds"]), hunk=hunk))
    workload, against, arm, run, advice = (str(table[name]) for name in _NAMES)
    sentences, subjects, packages, about = (tuple(str(text) for text in table[name]) for name in _LISTS)
    return AccountTold(
        workload, against, arm, run, sentences, tuple(leads), subjects, packages, about, advice
    )  # fmt: skip


ACCOUNT_KIND = register_json_kind(ACCOUNT, 1, told_table, told_from_table)
