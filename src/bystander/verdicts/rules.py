"""The table of verdicts: the first line that holds, for one row."""

from __future__ import annotations

from dataclasses import dataclass

from bystander.stats import blocks_needed
from bystander.verdicts import notes as say
from bystander.verdicts.types import ArmSide, Note

__all__ = ["Case", "Outcome", "outcome", "placebo_outcome"]


@dataclass(frozen=True)
class Case:
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
    p, q, e, q_e : float
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
    """

    reference: ArmSide
    candidate: ArmSide
    silent_arm: str | None
    apart: int
    read: bool
    fails_more: float
    p: float
    q: float
    e: float
    q_e: float
    leans: int
    first_look: int | None
    blocks: int | None
    attainable: bool
    alpha: float
    size: int
    accepted: int
    accepted_same: int
    words: tuple[str, str]


@dataclass(frozen=True)
class Outcome:
    """A verdict, one minus the level of the interval shown with it, and a note."""

    verdict: str
    error: float
    note: Note | None


def outcome(case: Case) -> Outcome:
    """Return the first line of the table that holds."""
    return _without_test(case) or _by_test(case)


def _without_test(case: Case) -> Outcome | None:
    """Lines on arms that have no trial, no valid one, or fail more often."""
    alpha = case.alpha
    if case.apart:
        return Outcome("unclear", alpha, say.hours_apart(case.apart))
    if case.silent_arm is not None:
        return Outcome("unclear", alpha, say.no_trials(case.silent_arm))
    if case.reference.failed == case.reference.trials:
        return Outcome("failed", alpha, say.reference_failed(case.reference))
    if case.candidate.failed == case.candidate.trials:
        return Outcome("failed", alpha, say.all_failed(case.candidate))
    if case.fails_more <= alpha:
        return Outcome("failed", alpha, say.fails_more(case.reference, case.candidate, case.fails_more))
    if not case.read:
        return Outcome("unclear", alpha, say.not_read())
    if case.first_look is not None:
        return Outcome("unclear", alpha, say.before_first_look(case.first_look))
    return None


def _by_test(case: Case) -> Outcome:
    """Lines on the readings themselves; each interval pays for the rows that are shown like it."""
    alpha = case.alpha
    if case.q_e <= alpha:
        note = say.change_detectable() if case.p <= alpha else None
        return Outcome("same", min(1.0, 2 * alpha * case.accepted_same / case.size), note)
    if case.e <= alpha:
        return Outcome("unclear", alpha, say.same_not_after_adjustment())
    if case.q <= alpha:
        return Outcome(case.words[0 if case.leans > 0 else 1], alpha * case.accepted / case.size, None)
    if case.p <= alpha:
        return Outcome("unclear", alpha, say.change_not_after_adjustment(case.p, case.size))
    if case.blocks is not None and not case.attainable:
        return Outcome("unclear", alpha, say.too_few_blocks(case.blocks, blocks_needed(case.size, alpha)))
    return Outcome("unclear", alpha, say.no_change_shown())


def placebo_outcome(case: Case) -> Outcome:
    """Return what a row of the placebo shows: a difference or a failure that should not be there, or nothing."""
    found = _without_test(case)
    if found:
        return found
    if case.q <= case.alpha and case.leans:
        return Outcome(case.words[0 if case.leans > 0 else 1], case.alpha, say.placebo_differs(case.q))
    return Outcome("unclear", case.alpha, say.no_change_shown())
