"""What a search for a commit found, as people say it: the ends first, then the commit, or why nobody is named."""

from __future__ import annotations

import math

from bystander.design import Measure
from bystander.units import counted, listed, quantity_text, share_text
from bystander.verdicts.bisected import Bisected, Commit, Ends, Kind, Outcome, Searched, Step
from bystander.verdicts.worded.ladder import edit_text
from bystander.verdicts.worded.sentences import decimals

__all__ = ["bisected_lines", "step_change"]

_NAMED, _HUNKS, _FACTOR = 8, 6, 2.0
_RAW = ("", "1", "share")


def step_change(step: Step, measure: Measure, level: float) -> str:
    """Return a step in words: "slower by 21 % (17 to 25 %, 95 % interval)"."""
    if step.kind is Kind.FAILS:
        return "it fails, where its parent did not"
    more, less = measure.words
    word = more if step.effect > 0 else less
    if step.kind is Kind.EXACT:
        return f"{word} by {_exact(step.effect, measure)}, the same in every trial"
    interval = f"{100 * level:g} % interval"
    if measure.unit in _RAW:
        return f"{word} by {abs(step.effect):.3g} ({step.low:+.3g} to {step.high:+.3g}, {interval})"
    values = [math.exp(v) for v in (step.effect, step.low, step.high)]
    if not 1 / _FACTOR < values[0] < _FACTOR:
        if values[0] < 1:
            values = [1 / values[0], 1 / values[2], 1 / values[1]]
        places = max(1, decimals(values[1:], 2))
        how = "as long" if step.effect > 0 and "slower" in measure.words else "as much"
        how = "as fast" if step.effect < 0 and "faster" in measure.words else how
        return (
            f"{word}: {values[0]:.{places}f} times {how} ({values[1]:.{places}f} to {values[2]:.{places}f}, {interval})"
        )
    percents = sorted(abs(100 * (v - 1)) for v in values[1:])
    places = decimals(percents, 2)
    return (
        f"{word} by {abs(100 * (values[0] - 1)):.{places}f} % ({percents[0]:.{places}f} to {percents[1]:.{places}f} %, "
        f"{interval})"
    )


def _exact(effect: float, measure: Measure) -> str:
    return f"{abs(effect):g}" if measure.unit in _RAW else share_text(abs(math.expm1(effect)), 3)


def bisected_lines(done: Searched, workload: int, found: Bisected) -> list[str]:
    """Return what a search says of one workload, a line each; commands stand on lines of their own."""
    head, measure = done.head, _measure(done)
    name = head.study.workloads[workload].name
    first, last = done.commits[0], done.commits[-1]
    lines = [
        f"{name}, {first.short} to {last.short}, {counted(len(done.commits) - 1, 'commit')}: {_ends(found, measure)}"
    ]
    if (ends := found.ends) and ends.kind is Kind.TIMED and _is_small(ends, measure, head.study.margin):
        lines.append(f"That is less than the margin of {share_text(head.study.margin)}, below which nothing matters.")
    level = 1 - head.study.risk
    for step in found.steps:
        lines += _step_lines(done, step, measure, level)
    if found.outcome in (Outcome.CANNOT_TELL, Outcome.NO_ANSWER):
        lines.append(_not_told(done, found))
    if found.outcome is Outcome.UNFINISHED:
        lines.append("The search was not finished, so nobody is named.")
    if found.remainder_p is not None:
        lines.append(_remainder(found, measure, head.study.risk))
    tried = f"{counted(len(found.tried), 'commit')} built and tried, {counted(found.blocks, 'block')}"
    if found.broken:
        tried += f"; {len(found.broken)} more could not be built"
    if found.ends and found.ends.kind is Kind.EXACT:
        tried += ". Readings repeat exactly, so one trial a commit was enough"
    lines.append(f"{tried}.")
    return lines


def _is_small(ends: Ends, measure: Measure, margin: float) -> bool:
    """Whether the ends differ by less than what matters; of differences of counts and shares nobody says."""
    return measure.unit not in _RAW and abs(ends.effect) < math.log1p(margin)


def _measure(done: Searched) -> Measure:
    measures = done.head.measures
    return next((one for one in measures if one.name == done.head.study.measure), measures[0])


def _ends(found: Bisected, measure: Measure) -> str:
    ends = found.ends
    blocks = counted(found.tested_blocks, "block")
    if ends is None:
        if found.outcome is Outcome.UNFINISHED:
            return "both ends were not held against each other long enough."
        if found.outcome is Outcome.GOOD_FAILS:
            return f"all {blocks.split()[0]} trials of the near end failed, so that nothing can be held against it."
        return f"no change is shown between the ends in {blocks}, so nobody is searched for."
    return f"{_change(ends, measure)} at the far end, {blocks} ({_chance(ends)})."


def _change(ends: Ends, measure: Measure) -> str:
    if ends.kind is Kind.FAILS:
        return "it fails"
    word = measure.words[0] if ends.effect > 0 else measure.words[1]
    if measure.unit in _RAW:
        return f"{word} by {quantity_text(abs(ends.effect), measure.unit, 2)}"
    ratio = math.exp(ends.effect)
    if not 1 / _FACTOR < ratio < _FACTOR:
        return f"{word}, {max(ratio, 1 / ratio):.1f} times"
    return f"{word} by {share_text(abs(ratio - 1), 2)}"


def _chance(ends: Ends) -> str:
    return f"p {ends.p:.2g}"


def _called(commit: Commit) -> str:
    return f'{commit.short}, "{commit.subject}"' if commit.subject else commit.short


def _step_lines(done: Searched, step: Step, measure: Measure, level: float) -> list[str]:
    commit, parent = done.commits[step.commits[-1]], done.commits[step.parent]
    fresh = counted(step.blocks, "fresh block")
    found = [f"The step is {_called(commit)}: {step_change(step, measure, level)}, against {parent.short}, {fresh}."]
    if others := [done.commits[one] for one in step.commits[:-1]]:
        names = listed([one.short for one in others], _NAMED)
        why = done.broken.get(others[0].short, "its trials failed")
        found.append(f"It may as well be {names}, which cannot be tried: {why}.")
    if size := done.sizes.get(commit.short):
        where = f"{counted(size.hunks, 'hunk')} of {counted(size.files, 'file')}"
        hunks = done.hunks.get(commit.short, ())
        rest = f"; and {len(hunks) - _HUNKS} more" if len(hunks) > _HUNKS else ""
        said = f": {'; '.join(hunks[:_HUNKS])}{rest}" if hunks else ""
        found.append(f"Its edit: {edit_text(size)} lines in {where}{said}.")
    return found


def _not_told(done: Searched, found: Bisected) -> str:
    names = listed([_called(done.commits[one]) for one in found.remaining], _NAMED)
    if found.outcome is Outcome.NO_ANSWER:
        return (
            "No answer: what was found did not hold against its parent in fresh blocks, three times. The most likely "
            f"are {names}; more blocks for each test (--blocks) may tell."
        )
    return f"It cannot be told among these {len(found.remaining)}: {names}."


def _remainder(found: Bisected, measure: Measure, risk: float) -> str:
    rest = found.remainder or 0.0
    if (found.remainder_p or 0.0) > risk:
        return "Beside it no change is left that is shown: the step is the whole."
    amount = f"{rest:+.3g}" if measure.unit in _RAW else f"{100 * math.expm1(rest):+.2g} %"
    second = "" if len(found.steps) > 1 else ", but no second step was found"
    return f"Beside it {amount} is left (p {found.remainder_p:.2g}), so both halves were searched again{second}."
