"""The notes on rows: every code and its sentence."""

from __future__ import annotations

import math
from collections.abc import Sequence

from bystander.design import Measure, Record, Status
from bystander.units import capital, counted, duration_text, quantity_text, share_text
from bystander.verdicts.compared.row_trials import RowTrials
from bystander.verdicts.compared.together import order_doubt
from bystander.verdicts.types import ArmSide, Note, Row

__all__ = [
    "all_failed",
    "answers",
    "at_floor",
    "before_first_look",
    "beyond_margin",
    "blocks_apart",
    "change_detectable",
    "change_not_after_adjustment",
    "decided_earlier",
    "fails_more",
    "failures_kept",
    "held_against",
    "hours_apart",
    "left_out",
    "margin_undetermined",
    "needs_blocks",
    "no_change_shown",
    "no_trials",
    "not_read",
    "one_of_many",
    "or_cpu",
    "placebo_differs",
    "placebo_tainted",
    "reference_failed",
    "reference_fails_more",
    "same_not_after_adjustment",
    "too_few_blocks",
    "unrandomised",
    "unread",
    "with_smallest",
    "within_margin",
]


def no_trials(arm: str) -> Note:
    """An arm was not tried yet."""
    return Note("no-trials", f"Arm {arm} has no trial here.")


def reference_failed(side: ArmSide) -> Note:
    """Nothing to compare with."""
    return Note("reference-failed", f"All {counted(side.trials, 'trial')} of the reference failed.")


def all_failed(side: ArmSide) -> Note:
    """The candidate never ended well."""
    return Note("all-failed", f"All {counted(side.trials, 'trial')} of the candidate failed.")


def fails_more(reference: ArmSide, candidate: ArmSide, p: float) -> Note:
    """The candidate fails more often than chance would have it."""
    return Note(
        "fails-more",
        f"The candidate fails more often: {candidate.failed} of {candidate.trials} trials, the reference "
        f"{reference.failed} of {reference.trials} (p {p:.2g} after adjustment).",
    )


def reference_fails_more(reference: ArmSide, candidate: ArmSide, p: float) -> Note:
    """The reference fails more often than chance would have it."""
    return Note(
        "reference-fails-more",
        f"The reference fails more often: {reference.failed} of {reference.trials} trials, the candidate "
        f"{candidate.failed} of {candidate.trials} (p {p:.2g} after adjustment).",
    )


def failures_kept(failed: tuple[int, int]) -> Note:
    """Failed trials widen the interval instead of vanishing."""
    return Note(
        "failures-kept",
        f"Failed trials are kept as bounds: {failed[0]} of the reference, {failed[1]} of the candidate.",
    )


def not_read() -> Note:
    """The measure was read nowhere."""
    return Note("not-read", "This measure was not read under both arms.")


def unread(blocks: int, measure: Measure) -> Note:
    """Some blocks lack the measure."""
    return Note(
        "unread",
        f"{counted(blocks, 'block')} left out: {measure.label} was not read in {'it' if blocks == 1 else 'them'}.",
    )


def left_out(trials: int) -> Note:
    """Some blocks lack an arm."""
    return Note("half-blocks", f"{counted(trials, 'trial')} left out: the other arm has none in the same block.")


def at_floor(readings: int) -> Note:
    """Readings below what can be seen."""
    return Note(
        "at-floor",
        f"{counted(readings, 'reading')} at the least value that can be seen; the truth may be lower.",
    )


def change_detectable() -> Note:
    """Real, and too small to matter."""
    return Note("change-detectable", "A change is there, but it lies within the margin.")


def same_not_after_adjustment() -> Note:
    """Same by itself, not in the suite."""
    return Note(
        "same-not-after-adjustment",
        "By itself it would be the same; among so many workloads that is not shown.",
    )


def change_not_after_adjustment(p: float, comparisons: int) -> Note:
    """A change by itself, not in the suite."""
    return Note(
        "change-not-after-adjustment",
        f"By itself it looks changed (p {p:.2g}); among {comparisons} comparisons that can be luck.",
    )


def one_of_many(comparisons: int, fewest: int, blocks: int, seconds: float) -> Note:
    """What it takes that one changed row among many is shown: the fewest blocks that could, and those that usually do.

    Parameters
    ----------
    seconds : float
        Of all blocks; NaN where it is not known.
    """
    time = f" ({duration_text(seconds, 2)})" if math.isfinite(seconds) else ""
    return Note(
        "one-of-many",
        f"One changed row of {comparisons} takes {counted(fewest, 'block')} at least; {blocks} would usually show "
        f"this one{time}.",
    )


def too_few_blocks(blocks: int, needed: int) -> Note:
    """No outcome could have shown anything."""
    return Note(
        "too-few-blocks",
        f"{counted(blocks, 'block')} cannot show anything here; {needed} would be the fewest.",
    )


def before_first_look(blocks: int) -> Note:
    """Between looks nothing is decided: whoever sees a result too early stops when he likes it."""
    return Note("before-first-look", f"Nothing is decided before the first look, which is after {blocks} blocks.")


def decided_earlier(blocks: int, of: int, ceiling: bool = False) -> Note:
    """Its workload went on for another row, or for a ceiling."""
    why = "a ceiling or another row" if ceiling else "another row"
    return Note("decided-earlier", f"Decided after {blocks} of {of} blocks; its workload went on for {why}.")


def no_change_shown() -> Note:
    """Nothing was shown; the sentence is completed once the interval is known."""
    return Note("no-change-shown", "No change shown.")


def placebo_differs(q: float) -> Note:
    """The same, made twice, does not look the same."""
    return Note("placebo-differs", f"The placebo is shown to differ from the reference (p {q:.2g} after adjustment).")


def placebo_tainted(rows: Sequence[Row]) -> Note:
    """The record's own control failed; this stands above everything else."""
    names = ", ".join(f"{row.workload} {row.verdict}" for row in rows)
    return Note(
        "placebo-tainted",
        f"TAINTED: the placebo, made like the reference and apart from it, is shown to differ ({names}). What this "
        "record shows of a change may be the doing of the set-up or the machine.",
    )


def beyond_margin() -> Note:
    """The whole interval lies beyond the margin."""
    return Note("beyond-margin", "The whole interval lies beyond the margin.")


def within_margin() -> Note:
    """A change is shown, and it is too small to matter."""
    return Note("within-margin", "The change is there, but it lies within the margin.")


def margin_undetermined() -> Note:
    """A change is shown, and it is not shown to matter."""
    return Note("margin-undetermined", "The change is there; whether it is beyond the margin is not shown.")


def with_smallest(note: Note, measure: Measure, ratio: bool, smallest: float) -> Note:
    """Complete the sentence that no change is shown by the smallest change that could have been."""
    if note.code != "no-change-shown" or math.isnan(smallest):
        return note
    least = share_text(smallest) if ratio else quantity_text(smallest, measure.unit)
    return Note(note.code, f"No change shown; the smallest that could have been shown here is about {least}.")


def needs_blocks(blocks: float, seconds: float, margin: float) -> Note:
    """Tell what a new record would take to show a change of the margin.

    Parameters
    ----------
    seconds : float
        Of all of them; NaN where it is not known.
    margin : float
        As a share.
    """
    time = f", {duration_text(seconds, 2)}," if math.isfinite(seconds) else ""
    return Note(
        "needs-blocks",
        f"A new record of {blocks:.0f} blocks{time} would show a change of {share_text(margin)} in 8 of 10 cases.",
    )


def or_cpu(notes: Sequence[Note], blocks: float) -> tuple[Note, ...]:
    """Add to the blocks that it takes by elapsed time those that it would take by CPU time."""
    text = f'measure = "cpu": about {blocks:.0f} blocks'
    asking = [note for note in notes if note.code == "needs-blocks"]
    if not asking:
        return (*notes, Note("needs-blocks", f"In a new record {text} would show a change of the margin."))
    whole = Note("needs-blocks", f"{asking[0].text.removesuffix('.')} (or {text}).")
    return tuple(whole if note is asking[0] else note for note in notes)


def answers(record: Record, pair: RowTrials) -> Note | None:
    """Tell when the arms answered differently, or one arm not always alike."""
    trials = record.trials
    study = record.head.study
    seen = []
    for rows in (pair.reference, pair.candidate):
        good = rows[trials.status[rows] == Status.OK]
        seen.append(set(trials.answers[good].tolist()) - {-1})
    if not all(seen):
        return None
    names = study.names(pair.comparison)
    varying = [name for name, found in zip(names, seen, strict=True) if len(found) > 1]
    if varying:
        whose = f" under {varying[0]}" if len(varying) < len(names) else ""
        return Note("answer-varies", f"Answers differ from trial to trial{whose}: not compared.")
    if seen[0] == seen[1]:
        return None
    sentence = f"{names[1]} gives another answer than {names[0]}"
    if accepted := study.accepted(pair.workload, pair.comparison.candidate):
        return Note("answer-accepted", f"{sentence}, which is accepted: {accepted}.")
    return Note("answer-differs", f"{sentence}.")


def held_against(state: str, broken: str) -> Note:
    """The state before the edit never ran."""
    return Note("held-against", f"Held against {state}, the last state that ran: {broken} did not.")


def part_and_whole(parts: Sequence[Row], whole: Row) -> Note:
    """Tell that phases changed and the whole did not follow."""
    sentence = ", ".join(f"{row.measure.label} is {row.verdict}" for row in parts)
    return Note("part-and-whole", f"{capital(sentence)}, but the whole is {whole.verdict}: see it over time.")


def unrandomised(record: Record, pair: RowTrials) -> Note | None:
    """Tell when trials were not run in a random order, as far as an imported record can show it."""
    doubt = order_doubt(record, pair.reference, pair.candidate, pair.paired)
    if not doubt:
        return None
    return Note(
        "unrandomised",
        f"It is not known that the arms ran in random order ({doubt}): drift may look like a change.",
    )


def hours_apart(blocks: int) -> Note:
    """No block is a pair."""
    return Note(
        "hours-apart",
        f"In none of {counted(blocks, 'block')} did the trials of both arms run back to back: they are no pairs, and "
        "drift would pass for a change.",
    )


def blocks_apart(blocks: int) -> Note:
    """Some blocks are no pairs."""
    whose = "its" if blocks == 1 else "their"
    return Note("blocks-apart", f"{counted(blocks, 'block')} left out: {whose} trials did not run back to back.")
