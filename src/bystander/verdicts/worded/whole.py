"""The whole load and the geometric mean as people say them."""

from __future__ import annotations

import math
from collections.abc import Sequence

from bystander.design import Measure
from bystander.units import counted, duration_text, listed, share_text
from bystander.verdicts.types import Decision
from bystander.verdicts.wholes import LoadPart, SumsOfLoad, Whole
from bystander.verdicts.worded.sentences import decimals

__all__ = ["contribution_text", "whole_lines"]

_NAMED, _SHARES_NAMED = 4, 5
_DOMINATES = 0.2  # of the square of the interval
_MATTERS = 0.1  # of the largest contribution
_FACTOR = 2.0


def whole_lines(decision: Decision) -> list[str]:
    """Return what is said of all workloads together, a line each; empty where there is nothing to say."""
    several = len(decision.loads) > 1 or len(decision.means) > 1
    lines = [line for load in decision.loads for line in _load_lines(load, decision.measure, several)]
    told = [mean for mean in decision.means if mean.known or 0 < len(mean.prevented) < len(mean.workloads)]
    return [*lines, *(_mean_line(mean, decision.measure) for mean in told)]


def _load_lines(load: Whole, measure: Measure, several: bool) -> list[str]:
    """Return the lines of one load: the total, the plain sums beside it, and what makes it up."""
    whose = f", {load.arm}" if several else ""
    left = _left_out(load)
    if not load.known:
        return [f"The whole load of {load.arm} has no total: {_prevented(load)}.{left}"]
    total = (
        f"The whole load, {counted(len(load.workloads), 'workload')} by how often each runs: {load.arm} "
        f"{_moved(load, measure)}{_saving(load)}.{left}"
    )
    made = f"What moves it{whose}: {_contributions(load)}. {_doubts(load.parts)}{_shares(load.parts)}"
    return [total, *([_sums(load.sums, whose)] if load.sums else []), *([made] if len(load.parts) > 1 else [])]


def _mean_line(mean: Whole, measure: Measure) -> str:
    """Return the line of a geometric mean."""
    if not mean.known:
        return f"The geometric mean of {mean.arm} over {mean.against} is not told: {_prevented(mean)}."
    number = counted(len(mean.workloads), "workload")
    return f"Geometric mean over {number}, each counting alike: {mean.arm} {_moved(mean, measure)}."


def contribution_text(load: Whole, workload: str) -> str:
    """Return by how much the whole moves by one workload's doing: "+1.2 %"; "" where it has no part in it."""
    places = decimals((100 * load.low, 100 * load.high), 2)
    part = next((part for part in load.parts if part.workload == workload), None)
    return f"{_signed(100 * part.contribution, places)} %" if part else ""


def _prevented(whole: Whole) -> str:
    if not whole.prevented:
        return "no workload counts"
    said = [f"{name}: {why}" for name, why in whole.prevented]
    return listed(said, _NAMED).replace(", ", "; ")


def _moved(whole: Whole, measure: Measure) -> str:
    """Return the change with its interval: "takes 3.4 % less time than before (2.1 to 4.7 % less, 95 % interval)"."""
    what = "time" if measure.name == "elapsed" else measure.label
    verb = "takes" if measure.unit in ("s", "B") else "has"
    level = f"{100 * whole.confidence:g} % interval"
    if not 1 / _FACTOR < whole.ratio < _FACTOR:
        places = max(1, decimals((whole.low, whole.high), 2))
        ends = f"{max(0.0, whole.low):.{places}f} to {whole.high:.{places}f}"
        return f"{verb} {whole.ratio:.{places}f} times as much {what} as {whole.against} ({ends}, {level})"
    percents = [100 * (value - 1) for value in (whole.ratio, whole.low, whole.high)]
    places = decimals(percents[1:], 2)
    word = _word(percents[0])
    if percents[1] >= 0 or percents[2] <= 0:
        ends = " to ".join(f"{abs(value):.{places}f}" for value in sorted(percents[1:], key=abs)) + f" % {word}"
    else:
        ends = f"from {-percents[1]:.{places}f} % less to {percents[2]:.{places}f} % more"
    amount = f"{abs(percents[0]):.{places}f}"
    than = f"{amount} % {word} {what} than" if float(amount) else f"as much {what} as"
    return f"{verb} {than} {whole.against} ({ends}, {level})"


def _word(value: float) -> str:
    return "more" if value > 0 else "less"


def _saving(load: Whole) -> str:
    """Return what that comes to in seconds: ", which saves 41 s per day (33 to 50 s)"; "" without a span."""
    if not load.per:
        return ""
    saved, low, high = load.saved
    verb = "saves" if saved >= 0 else "costs"
    if low >= 0 or high <= 0:
        ends = " to ".join(duration_text(abs(value), 2) for value in sorted((low, high), key=abs))
    else:
        ends = f"from {duration_text(-low, 2)} more to {duration_text(high, 2)} less"
    return f", which {verb} {duration_text(abs(saved), 2)} per {load.per} ({ends})"


def _sums(one: SumsOfLoad, whose: str) -> str:
    left = f", without {counted(one.left_out, 'block')} in which a trial failed" if one.left_out else ""
    percents = [100 * (value - 1) for value in (one.sums.ratio, one.sums.low, one.sums.high)]
    places = decimals(percents[1:], 2)
    numbers = [_signed(value, places) for value in percents]
    text = f"By plain sums of the same trials{whose}: {numbers[0]} % ({numbers[1]} to {numbers[2]} %){left}."
    if not one.rare_slow:
        return text
    return f"{text} That lies outside the interval above: rare slow trials count more in sums than in typical times."


def _signed(value: float, places: int) -> str:
    text = f"{value:+.{places}f}"
    return text[1:] if float(text) == 0 else text


def _contributions(load: Whole) -> str:
    """Name what moves the whole by most, whichever way."""
    order = sorted(load.parts, key=lambda part: -abs(part.contribution))
    most = abs(order[0].contribution)
    named = [part for part in order if part.contribution and abs(part.contribution) >= _MATTERS * most]
    return listed([f"{part.workload} {contribution_text(load, part.workload)}" for part in named], _NAMED) or "nothing"


def _doubts(parts: Sequence[LoadPart]) -> str:
    """Name the workloads whose noise makes the whole uncertain."""
    order = [part for part in sorted(parts, key=lambda part: -part.uncertainty) if part.uncertainty > _DOMINATES]
    if not order:
        return ""
    return f"Its interval is mostly owed to {', '.join(f'{p.workload} ({share_text(p.uncertainty)})' for p in order)}. "


def _shares(parts: Sequence[LoadPart]) -> str:
    order = sorted(parts, key=lambda part: -part.share)
    said = listed([f"{part.workload} {share_text(part.share)}" for part in order], _SHARES_NAMED)
    return f"Shares of the load as it was measured: {said}."


def _left_out(whole: Whole) -> str:
    parts = ((whole.other_answer, "another answer"), (whole.failed, "failed"))
    said = "; ".join(f"{listed(names, _NAMED)} ({why})" for names, why in parts if names)
    text = f" Left out: {said}." if said else ""
    bare = whole.without_weight
    return text + (f" Without a weight: {listed(bare, _NAMED)}." if bare and not math.isnan(whole.seconds) else "")
