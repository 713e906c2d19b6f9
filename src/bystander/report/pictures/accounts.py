"""Accounts of changes as a picture: the whole, each lead, and the rest, before and after on one axis of seconds."""

from __future__ import annotations

import math
from collections.abc import Sequence

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter, MaxNLocator

from bystander.design import Account, Change, account_sentences, calls_text, change_seconds, lead_label
from bystander.errors import UsageError
from bystander.report.pictures.look import bare, looked, saved, words
from bystander.report.theme import LIGHT
from bystander.units import duration_text

__all__ = ["drawn_accounts_picture"]

_WIDE, _LINE, _HEAD = 9.0, 0.27, 0.95  # inches: of all, of a row, and of what stands around the rows of an account
_MOST_LEADS, _MOST_ACCOUNTS = 12, 8


def drawn_accounts_picture(accounts: Sequence[Account], suffix: str) -> bytes:
    """Return one panel for each account; raise UsageError where there is none that holds anything."""
    shown = [one for one in accounts if one.blocks][:_MOST_ACCOUNTS]
    if not shown:
        raise UsageError("--to: no inspection of two states came to a block of both, so there is no account to draw")
    with looked():
        return saved(_drawn(shown, len(accounts)), suffix)


def _drawn(accounts: Sequence[Account], of: int) -> Figure:
    heights = [_HEAD + _LINE * (2 + min(_MOST_LEADS, len(one.leads))) for one in accounts]
    figure = Figure(figsize=(_WIDE, sum(heights) + 0.35))
    total = figure.get_figheight()
    top = total
    for account, height in zip(accounts, heights, strict=True):
        axes = figure.add_axes((0.27, (top - height + 0.30) / total, 0.40, (height - _HEAD) / total))
        title = words(f"{account.workload}: {account.against}, then {account.arm}", 90)
        figure.text(0.02, (top - 0.12) / total, title, fontsize=11, weight="bold", va="top")
        sentence = words(account_sentences(account)[1 if account.timed else 0], 130)
        figure.text(0.02, (top - 0.34) / total, sentence, fontsize=8.5, va="top")
        _panel(axes, account)
        top -= height
    rest = f"The first {len(accounts)} of {of} accounts. " if of > len(accounts) else ""
    how = "Ring: before, dot: after, bar: its interval; watched in trials apart from the timed ones."
    foot = f"{rest}{how} {accounts[0].run}."
    figure.text(0.02, 0.07 / total, words(foot, 150), fontsize=7.5, color=LIGHT["soft"])
    return figure


def _panel(axes: Axes, account: Account) -> None:
    """Draw the whole, the leads and the rest, one below the other."""
    bare(axes)
    leads = account.leads[:_MOST_LEADS]
    rows: list[tuple[str, Change | None, str]] = [("the whole", account.whole, change_seconds(account.whole))]
    for lead in leads:
        beside = [change_seconds(lead.timed)] if lead.timed else []
        if calls := calls_text(lead):
            beside.append(f"{calls} {'call' if calls == '1' else 'calls'}")
        settled = " (settled)" if lead.settled else ""
        rows.append((f"{lead_label(lead)}{settled}", lead.timed, "  ".join(beside)))
    rows.append(("the rest", None, change_seconds(account.rest)))
    for place, (label, seconds, text) in enumerate(rows):
        axes.text(-0.03, place, words(label, 34), transform=axes.get_yaxis_transform(), ha="right", va="center")
        axes.text(1.03, place, words(text, 46), transform=axes.get_yaxis_transform(), ha="left", va="center")
        if seconds is not None:
            _marks(axes, place, seconds)
    axes.set_ylim(len(rows) - 0.5, -0.5)
    axes.set_yticks([])
    axes.set_xlim(left=0)
    axes.xaxis.set_major_locator(MaxNLocator(5))
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: duration_text(value, 2) if value else "0"))
    axes.tick_params(labelsize=8)


def _marks(axes: Axes, place: int, change: Change) -> None:
    ink = LIGHT["ink"]
    axes.plot([0, max(change.before_s, change.after_s)], [place, place], color=LIGHT["line"], lw=0.8, zorder=0)
    if math.isfinite(change.low_s) and math.isfinite(change.high_s):
        ends = [max(0.0, change.before_s + end) for end in (change.low_s, change.high_s)]
        axes.plot(ends, [place, place], color=ink, lw=3.2, solid_capstyle="butt", alpha=0.75)
    axes.plot([change.before_s], [place], "o", ms=6, color=ink, mfc=LIGHT["card"], mew=1.3, clip_on=False)
    axes.plot([change.after_s], [place], "o", ms=6, color=ink, clip_on=False)
