"""The table of verdicts: the first line that holds, for one row."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from bystander.stats import blocks_needed
from bystander.verdicts.noted import notes as say
from bystander.verdicts.types import ArmSide, Note
from bystander.verdicts.words import Verdict

__all__ = ["Outcome", "RowFacts", "control_outcome", "outcome"]


class RowFacts(NamedTuple):
    """All that the table asks of a row.

    Attributes
    ----------
    silent_arm : str or None
        An arm that has no trial.
    apart : int
        Blocks whose trials are no pairs, where that leaves none.
    read : bool
        Whether the measure was read under both arms.
    fails_more : float
        Adjusted p that the candidate fails more often; 1 for other measures than the study's.
    p, e, p_adjusted, e_adjusted : float
        p and e, and both as adjusted over the family.
    leans : int
        1 for an increase, -1 for a decrease.
    first_look : int or None
        After how many blocks the first look is, where it was not reached.
    blocks : int or None
        None without pairing.
    attainable : bool
        Whether so many blocks could show anything.
    alpha : float
        The family's risk.
    size, accepted, accepted_same : int
        Comparisons of the family, and how many of them are shown changed or the same.
    words : pair of str
        The measure's words for an increase and a decrease.
    small : bool
        Whether a change within the margin counts as one where it is shown.
    """

    reference: ArmSide
    candidate: ArmSide
    silent_arm: str | None
    apart: int
    read: bool
    fails_more: float
    p: float
    e: float
    p_adjusted: float
    e_adjusted: float
    leans: int
    first_look: int | None
    blocks: int | None
    attainable: bool
    alpha: float
    size: int
    accepted: int
    accepted_same: int
    words: tuple[str, str]
    small: bool = False


@dataclass(frozen=True)
class Outcome:
    """A verdict, one minus the level of the interval shown with it, and a note."""

    verdict: Verdict
    error: float
    note: Note | None


def outcome(row: RowFacts) -> Outcome:
    """Return the first line of the table that holds."""
    return _without_test(row) or _by_test(row)


def _without_test(row: RowFacts) -> Outcome | None:
    """Lines on arms that have no trial, no valid one, or fail more often."""
    alpha = row.alpha
    if row.apart:
        return Outcome(Verdict.UNCLEAR, alpha, say.hours_apart(row.apart))
    if row.silent_arm is not None:
        return Outcome(Verdict.UNCLEAR, alpha, say.no_trials(row.silent_arm))
    if row.reference.failed == row.reference.trials:
        return Outcome(Verdict.FAILED, alpha, say.reference_failed(row.reference))
    if row.candidate.failed == row.candidate.trials:
        return Outcome(Verdict.FAILED, alpha, say.all_failed(row.candidate))
    if row.fails_more <= alpha:
        return Outcome(Verdict.FAILED, alpha, say.fails_more(row.reference, row.candidate, row.fails_more))
    if not row.read:
        return Outcome(Verdict.UNCLEAR, alpha, say.not_read())
    if row.first_look is not None:
        return Outcome(Verdict.UNCLEAR, alpha, say.before_first_look(row.first_look))
    return None


def _by_test(row: RowFacts) -> Outcome:
    """Lines on the readings themselves; each interval pays for the rows that are shown like it."""
    alpha = row.alpha
    changed = row.p_adjusted <= alpha
    if changed and row.small:
        return _changed(row)
    if row.e_adjusted <= alpha:
        note = say.change_detectable() if row.p <= alpha else None
        return Outcome(Verdict.SAME, alpha if row.small else min(1.0, 2 * alpha * row.accepted_same / row.size), note)
    if row.e <= alpha:
        return Outcome(Verdict.UNCLEAR, alpha, say.same_not_after_adjustment())
    if changed:
        return _changed(row)
    if row.p <= alpha:
        return Outcome(Verdict.UNCLEAR, alpha, say.change_not_after_adjustment(row.p, row.size))
    if row.blocks is not None and not row.attainable:
        return Outcome(Verdict.UNCLEAR, alpha, say.too_few_blocks(row.blocks, blocks_needed(row.size, alpha)))
    return Outcome(Verdict.UNCLEAR, alpha, say.no_change_shown())


def _changed(row: RowFacts) -> Outcome:
    return Outcome(Verdict(row.words[0 if row.leans > 0 else 1]), row.alpha * row.accepted / row.size, None)


def control_outcome(row: RowFacts) -> Outcome:
    """Return what a row of the placebo shows: a difference or a failure that should not be there, or nothing."""
    found = _without_test(row)
    if found:
        return found
    if row.p_adjusted <= row.alpha and row.leans:
        return Outcome(Verdict(row.words[0 if row.leans > 0 else 1]), row.alpha, say.placebo_differs(row.p_adjusted))
    return Outcome(Verdict.UNCLEAR, row.alpha, say.no_change_shown())
