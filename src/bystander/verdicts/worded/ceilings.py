"""Ceilings as people say them."""

from __future__ import annotations

from collections import Counter

from bystander.units import counted
from bystander.verdicts.ceilings import SESSIONS_ENOUGH, CeilingRow
from bystander.verdicts.types import Decision
from bystander.verdicts.words import CeilingVerdict

__all__ = ["beyond_text", "ceiling_notes", "ceiling_text", "ceilings_sentence", "minutes_sentence"]

THESE_MINUTES = "in these minutes"


def ceiling_text(row: CeilingRow, main: str) -> str:
    """Return what is asked: "95 % within 250 ms", with the measure before it where it is not the study's."""
    text = row.ceiling.text(row.measure.unit)
    return text if row.measure.name == main else f"{row.measure.label}: {text}"


def beyond_text(row: CeilingRow) -> str:
    """Return how many trials are beyond it: "2 of 92, 1 failed", "6 of the first 8 (10 of 24 in all)"."""
    if not row.looked_at:
        return "not looked at yet"
    failed = f", {row.failed} failed" if row.failed else ""
    beyond, trials = row.in_all
    if trials > row.trials:
        return f"{row.beyond} of the first {row.trials}{failed} ({beyond} of {trials} in all)"
    return f"{row.beyond} of {row.trials}{failed}"


def ceiling_notes(row: CeilingRow) -> list[str]:
    """Return what speaks against taking it as it is, in a few words each."""
    notes = [THESE_MINUTES] if row.doubtful else [f"over {row.sessions} sessions"] if row.sessions > 1 else []
    if row.unread:
        notes.append(f"{counted(row.unread, 'trial')} without it")
    return notes


def minutes_sentence(decision: Decision) -> str:
    """Return what "in these minutes" means, "" where it is said of no ceiling."""
    if not any(row.doubtful for row in decision.ceilings):
        return ""
    return (
        f"{THESE_MINUTES.capitalize()}: trials resemble those before them, so that the test, which takes them for "
        "independent, says nothing of other hours, and a gate leaves such ceilings out. "
        f'--sessions {SESSIONS_ENOUGH} --apart "10 min" spreads the trials.'
    )


def ceilings_sentence(decision: Decision) -> str:
    """Return how many ceilings hold and how many do not, "" where the study has none."""
    if not decision.ceilings:
        return ""
    counts = Counter(row.verdict for row in decision.ceilings)
    words = {CeilingVerdict.BROKEN: "broken", CeilingVerdict.UNCLEAR: "unclear", CeilingVerdict.HOLDS: "shown to hold"}
    said = ", ".join(f"{counts[verdict]} {word}" for verdict, word in words.items() if counts[verdict])
    doubtful = sum(row.doubtful and row.verdict != CeilingVerdict.UNCLEAR for row in decision.ceilings)
    only = f" ({doubtful} of them {THESE_MINUTES} only)" if doubtful else ""
    return f"Of {counted(len(decision.ceilings), 'ceiling')}: {said}{only}."
