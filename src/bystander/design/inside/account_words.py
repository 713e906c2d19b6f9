"""The account of a change and its leads, in words."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from bystander.design.inside.accounts import Account, Change, Lead, PlaceChange, Standing
from bystander.design.inside.places import VIEWS, place_label, short_file
from bystander.design.inside.watched import Place
from bystander.units import counted, duration_text, listed

__all__ = [
    "AccountTold",
    "LeadTold",
    "account_sentences",
    "called_text",
    "calls_text",
    "change_seconds",
    "cost_text",
    "lead_brief",
    "lead_label",
    "lead_sentence",
    "place_where",
    "slowed_text",
    "standing_text",
    "told_account",
    "told_change",
    "try_sentence",
]

_UNITS = ((1.0, "s"), (1e-3, "ms"), (1e-6, "µs"), (1e-9, "ns"))
_STANDING = {
    Standing.EDITED: "edited", Standing.MOVED: "moved, the same code", Standing.NEW: "new", Standing.GONE: "gone",
    Standing.CALLS_EDITED: "calls edited code", Standing.UNTOUCHED: "untouched", Standing.UNKNOWN: "",
}  # fmt: skip
_MOST_TOLD = 6  # leads of an account that decisions and reports show
_MOST_DECIMALS = 6
_WHOLE = 0.02  # a ratio so near to a whole number is told as one
_WAITS = 0.5  # of a change: beyond, it is waiting


@dataclass(frozen=True)
class LeadTold:
    """A lead in words, as it was when its inspection ended.

    Attributes
    ----------
    label, where : str
        Its place, and file and line.
    brief, said : str
        In a few words; what is known beside its seconds.
    calls : str
        Before and after, "" where they are not known.
    seconds : Change or None
        None for what has calls only.
    fate : str
        What somebody judged of it since; it is not kept with the inspection.
    hunk : tuple of str
        How its function was edited; see `Lead`.
    """

    label: str
    where: str
    brief: str
    said: str
    calls: str
    seconds: Change | None
    fate: str = ""
    hunk: tuple[str, ...] = ()


@dataclass(frozen=True)
class AccountTold:
    """An account in words, as it was when its inspection ended: for decisions and reports, which compute none.

    Attributes
    ----------
    workload, against, arm : str
    run : str
        The inspection's name.
    sentences : tuple of str
    leads : tuple of LeadTold
        The first few.
    subjects, packages, about : tuple of str
        See `Account`.
    advice : str
        What would test the first lead, "" where nobody knows.
    """

    workload: str
    against: str
    arm: str
    run: str
    sentences: tuple[str, ...] = ()
    leads: tuple[LeadTold, ...] = ()
    subjects: tuple[str, ...] = ()
    packages: tuple[str, ...] = ()
    about: tuple[str, ...] = ()
    advice: str = ""


def standing_text(standing: Standing) -> str:
    """Return how the code of a place stands, "" where nobody knows."""
    return _STANDING[Standing(standing)]


def change_seconds(change: Change, sign: bool = True) -> str:
    """Return a difference of seconds with its interval in one unit: "+36 ms (+32 to +40)"; no more digits than known.

    Parameters
    ----------
    sign : bool
        Write plus signs.
    """
    ends = [change.low_s, change.high_s]
    bounded = all(math.isfinite(end) for end in ends)
    largest = max(abs(change.change_s), *(abs(end) for end in ends if math.isfinite(end)), 0.0)
    size, unit = next(((size, unit) for size, unit in _UNITS if largest >= size), _UNITS[-1])
    width = (change.high_s - change.low_s) / size if bounded else abs(change.change_s) / size
    decimals = 0 if width <= 0 else max(0, min(3, 1 - math.floor(math.log10(width))))
    nearest = min(map(abs, ends)) / size
    if change.shown and nearest:  # an end that is told as 0 would hold what is ruled out
        decimals = max(decimals, min(_MOST_DECIMALS, -math.floor(math.log10(nearest))))

    def told(seconds: float) -> str:
        text = f"{seconds / size:+.{decimals}f}" if sign else f"{seconds / size:.{decimals}f}"
        return "0" if float(text) == 0 else text

    between = f"({told(change.low_s)} to {told(change.high_s)})" if bounded else "(not bounded yet)"
    return f"{told(change.change_s)} {unit} {between}"


def _amount(change: Change) -> str:
    """Return how much a shown change is, without its sign: "36 ms (32 to 40)"."""
    if change.change_s >= 0:
        return change_seconds(change, sign=False)
    turned = Change(change.after_s, change.before_s, -change.change_s, -change.high_s, -change.low_s)
    return change_seconds(turned, sign=False)


def lead_label(lead: Lead) -> str:
    """Return what a lead is called: its place, or both between which work moved."""
    label = place_label(lead.place)
    return f"{place_label(lead.moved_from)} > {label}" if lead.moved_from else label


def told_change(seconds: Change | None, tested: bool = True) -> str:
    """Return the change of a place with its interval, without one if it was too small, "" if it has no seconds."""
    if seconds is None:
        return ""
    if tested:
        return change_seconds(seconds)
    sign = "+" if seconds.change_s > 0 else ""
    return f"{sign}{duration_text(seconds.change_s, 2) if seconds.change_s else '0'} (small, not tested)"


def place_where(place: Place, roots: Sequence[str]) -> str:
    """Return file and line of a place, "" for what has none."""
    file = place.file
    for root in roots:
        file = short_file(file, root)
    return f"{file}:{place.line}" if file else ""


def lead_brief(lead: Lead) -> str:
    """Return a lead in a few words: "telegrams.read, edited, +36 ms (+32 to +40)"."""
    if lead.moved_from:
        return f"{_moved(lead, place_label(lead.place))}, together {change_seconds(lead.seconds)}"
    stands = f", {text}" if (text := standing_text(lead.standing)) else ""
    if lead.by_count:
        return f"{lead_label(lead)}{stands}: {called_text(lead)}"
    if lead.by_surprise:
        return f"{lead_label(lead)}{stands}: a surprise, {lead.surprise}"
    return f"{lead_label(lead)}{stands}, {change_seconds(lead.seconds)}"


def lead_sentence(lead: Lead) -> str:
    """Return what is known of a lead beside its seconds: how the code stands, and its calls; "" for nothing."""
    if lead.moved_from:
        around = f", under {place_label(lead.under)}" if lead.under else ""
        remains = "" if lead.seconds.shown else "; together no change is shown"
        return f"{_moved(lead, place_label(lead.place))}{around}{remains}"
    parts = [text] if (text := standing_text(lead.standing)) else []
    if lead.takes:
        parts.append(f"with {listed([place_label(one) for one in lead.takes], 3)}")
    if text := called_text(lead):
        parts.append(text)
    if lead.line and lead.line != lead.place.line and lead.explains:
        parts.append(f"most of it at line {lead.line}")
    grew = lead.waiting_after_s - lead.waiting_before_s
    if abs(grew) >= _WAITS * abs(lead.seconds.change_s) > 0 and lead.explains:
        waits = [duration_text(seconds, 2) for seconds in (lead.waiting_before_s, lead.waiting_after_s)]
        parts.append(f"waiting {waits[0]}, then {waits[1]}")
    return ", ".join(parts)


def _moved(lead: Lead, to: str) -> str:
    """Say what became of what a place saved: it is waited for, or done elsewhere."""
    saved = place_label(lead.moved_from) if lead.moved_from else ""
    waits = lead.waiting_after_s - lead.waiting_before_s > abs(lead.seconds.change_s)
    return f"what {saved} saved is {'waited for' if waits else 'spent'} in {to}"


def called_text(lead: Lead) -> str:
    """Return how calls changed: "calls telegrams.read 3 times for each of 800 telegrams instead of once"."""
    if not lead.called:
        if lead.calls_before is None or lead.calls_after is None or lead.calls_before == lead.calls_after:
            return ""
        return f"called {_times(lead.calls_after)} instead of {_times(lead.calls_before)}"
    told, place = lead.called[0], lead.called_place or lead.place
    per_item = _per_item(lead) if place == lead.place else ""
    if place != lead.place:
        each = "in each of its calls"
        if not told.after:
            return f"no longer calls {place_label(place)}, before {_times(told.before)} {each}"
        if not told.before:
            return f"calls {place_label(place)} {_times(told.after)} {each}, and did not before"
        return f"calls {place_label(place)} {_instead(told.before, told.after)} {each}"
    return f"called {per_item or _instead(told.before, told.after) + f' in each call of {place_label(told.place)}'}"


def _per_item(lead: Lead) -> str:
    """Return calls for each of the items that the program tells of, where these are whole numbers."""
    if lead.calls_before == lead.calls_after:
        return ""
    for name, items in lead.items.items():
        before, after = ((calls or 0) / items for calls in (lead.calls_before, lead.calls_after))
        if after >= 1 and all(abs(each - round(each)) <= _WHOLE * each for each in (before, after) if each):
            return f"{_instead(before, after)} for each of {items:,.0f} {name}"
    return ""


def _instead(before: float, after: float) -> str:
    return f"{_times(after)} instead of {_times(before)}"


def _times(number: float) -> str:
    if abs(number - round(number)) <= _WHOLE * max(number, 1e-9) or number == 0:
        whole = round(number)
        return {0: "never", 1: "once"}.get(whole, f"{whole:,} times")
    return f"{number:.2g} times" if number < 10 else f"{number:,.0f} times"


def account_sentences(account: Account) -> list[str]:
    """Return the account: the whole, what leads explain, and what is left."""
    whole, leads = account.whole, [lead for lead in account.leads if lead.explains]
    sums = f"{duration_text(whole.before_s)}, then {duration_text(whole.after_s)}"
    what = {VIEWS[0]: "", VIEWS[1]: " of CPU time", VIEWS[2]: " of waiting"}[account.view]
    if not account.blocks:
        return [f"{account.workload}: no block in which both arms came to a good end."]
    of = f"That part of {account.workload}" if account.part else account.workload
    if whole.shown:
        word = "less" if whole.change_s < 0 else "more" if what else "longer"
        first = f"{of} takes {_amount(whole)} {word}{what} under {account.arm}, watched ({sums})."
    else:
        first = f"{of}: no change of the whole{what} is shown, watched: {change_seconds(whole)} ({sums})."
    timed = [f"Timed, unwatched: {account.timed}."] if account.timed else []
    timed += account.part
    if not leads:
        return [*timed, first, "No place is shown to have changed."]
    told = [_part(lead) for lead in leads[:3]]
    more_leads = f", and {counted(len(leads) - 3, 'more lead')}" if len(leads) > 3 else ""
    together = f" Together that is {change_seconds(account.explained)}." if len(leads) > 1 else ""
    lies = "Of that," if whole.shown else "Inside it,"
    rest = account.rest
    nothing = account.part and not any((rest.change_s, rest.low_s, rest.high_s))
    left = "" if nothing else f" The rest is {change_seconds(rest)}."
    said = f"{lies} {'; '.join(told)}{more_leads}.{together}{left}"
    return [*timed, first, said]


def _part(lead: Lead) -> str:
    """Return what a lead adds to a change or takes from it."""
    if lead.moved_from:
        under = f" under {place_label(lead.under)}" if lead.under else ""
        told = f"{_moved(lead, place_label(lead.place))}{under}, which together is {change_seconds(lead.seconds)}"
        return told if lead.seconds.shown else f"{told} and shows no change"
    beside = f", {text}" if (text := lead_sentence(lead)) else ""
    return f"{change_seconds(lead.seconds)} lie in {lead_label(lead)}{beside}"


def cost_text(account: Account) -> str:
    """Return what watching cost in both arms, "" where nobody knows."""
    told = []
    for cost, arm in zip(account.cost, (account.against, account.arm), strict=True):
        if cost:
            between = f" ({cost.low:.2f} to {cost.high:.2f})" if math.isfinite(cost.high) else ""
            told.append(f"{cost.ratio:.2f}{between} under {arm}")
    if not told:
        return ""
    more = account.slowed_more
    said = f"Watched over unwatched time: {', '.join(told)}"
    if not more:
        return said
    return f"{said}; {account.arm} over {account.against} {more.ratio:.2f} ({more.low:.2f} to {more.high:.2f})"


def slowed_text(account: Account) -> str:
    """Return that watching slowed the arms unequally, and what was done about it; "" where that is not shown."""
    if account.slowed is None:
        return ""
    how = "more" if account.slowed > 1 else "less"
    return (
        f"Watching slowed {account.arm} {how} than {account.against}, by {100 * abs(account.slowed - 1):.1f} %: its "
        "seconds are divided by the middle ratio of all places, as if most of them had not changed"
    )


def try_sentence(account: Account) -> str:
    """Return what one would do with the first lead, "" where there is none."""
    if not account.leads:
        return ""
    lead = account.leads[0]
    label = place_label(lead.place)
    if lead.called and lead.called[0].after > lead.called[0].before:
        called = place_label(lead.called_place or lead.place)
        return f"To test it: an arm in which {place_label(lead.called[0].place)} calls {called} as often as before."
    if lead.standing in (Standing.EDITED, Standing.NEW, Standing.MOVED):
        return f"To test it: an arm with everything but the edit of {label}."
    if lead.standing is Standing.CALLS_EDITED:
        return f"To test it: an arm in which what {label} calls is as before."
    return ""


def calls_text(one: Lead | PlaceChange) -> str:
    """Return calls before and after: "432 > 12", one number where they are alike, "" where they are not known."""
    before, after = one.calls_before, one.calls_after
    if before is None or after is None:
        return ""
    return f"{after:,}" if before == after else f"{before:,} > {after:,}"


def _said(lead: Lead) -> str:
    surprise = f"a surprise: {lead.surprise}" if lead.surprise else ""
    return "; ".join(part for part in (lead_sentence(lead), surprise) if part)


def told_account(account: Account) -> AccountTold:
    """Return an account in words, for whoever shows it later."""
    leads = tuple(
        LeadTold(
            lead_label(lead), place_where(lead.place, account.roots), lead_brief(lead), _said(lead),
            calls_text(lead), lead.timed, hunk=lead.hunk,
        )
        for lead in account.leads[:_MOST_TOLD]
    )  # fmt: skip
    return AccountTold(
        account.workload, account.against, account.arm, account.run, tuple(account_sentences(account)), leads,
        tuple(account.subjects), tuple(account.packages), tuple(account.about), try_sentence(account),
    )  # fmt: skip
