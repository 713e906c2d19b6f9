"""Results as people say them: calm, exact, and never with more digits than the interval supports."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence

from bystander.design import check_again
from bystander.units import counted, listed, quantity_text, share_text
from bystander.verdicts.described.failures import Failure
from bystander.verdicts.settled import ACCEPTED_NOTE
from bystander.verdicts.types import Decision, Row
from bystander.verdicts.words import Pairing, Scale, StopReason, Verdict

__all__ = [
    "answer_sentence",
    "blocks_text",
    "change_text",
    "compared_text",
    "decimals",
    "failure_sentence",
    "interval_text",
    "lead_text",
    "looks_sentence",
    "medians_text",
    "memory_sentence",
    "outcome_sentence",
    "placebo_sentence",
    "quoted_texts",
    "row_sentence",
    "saved_text",
    "settled_sentence",
    "suite_sentence",
]

_FACTOR = 2.0  # beyond it a factor reads better than percent


def decimals(ends: Sequence[float], most: int) -> int:
    """Return decimals so that the interval's half width shows in one digit, or two when the first is 1.

    An interval without bounds supports no decimals at all.
    """
    if not all(map(math.isfinite, ends)):
        return 0
    half_width = abs(ends[1] - ends[0]) / 2
    if half_width <= 0:
        return most
    first = math.floor(math.log10(half_width))
    leading = half_width / 10.0**first
    return min(most, max(0, -first + (1 if leading < 2 else 0)))


def _factors(row: Row) -> bool:
    """Whether a row is told in factors: beyond a factor of two, but for amounts of which there is less."""
    if row.scale != Scale.RATIO:
        return False
    return row.estimate >= _FACTOR or (row.estimate <= 1 / _FACTOR and "faster" in row.measure.words)


def _numbers(row: Row) -> tuple[list[str], str]:
    """Return estimate, low and high as texts on one scale, and the unit behind them.

    A faster row of factors counts how many times as fast, so its ends change places.
    """
    values = [row.estimate, row.low, row.high]
    if row.scale == Scale.DIFFERENCE:
        factor, unit = _difference_scale(row)
        amounts = [v * factor for v in values]
        large = not unit and all(abs(v) >= 10 for v in amounts)
        return [_signed(v, 2 if unit else 0 if large else 1) for v in amounts], unit
    values = [v if v > 0 else math.inf for v in values]  # a ratio of 0 is no bound either
    if _factors(row):
        if row.estimate < 1:
            values = [1 / v if 0 < v < math.inf else math.inf for v in (row.estimate, row.high, row.low)]
        places = max(int(min(values) < 100), decimals(values[1:], 2))
        return [f"{v:.{places}f}" if math.isfinite(v) else "?" for v in values], ""
    percents = [(v - 1) * 100 for v in values]
    places = decimals(percents[1:], 2)
    leaves_out_zero = percents[1] > 0 or percents[2] < 0
    return [_signed(v, places if not leaves_out_zero else _visible(v, places)) for v in percents], " %"


def _visible(value: float, places: int) -> int:
    """Return decimals, more where a number would be shown as 0 though its interval leaves 0 out."""
    while value and places < 4 and float(f"{value:.{places}f}") == 0:
        places += 1
    return places


def _signed(value: float, places: int) -> str:
    """Write a number with its sign; a rounded zero has none, and what is unbounded is "?"."""
    if not math.isfinite(value):
        return "?"
    text = f"{value:+.{places}f}"
    return text[1:] if float(text) == 0 else text


_TIME_SCALES = ((1e-4, (1e3, " ms")), (1e-7, (1e6, " µs")), (1e-12, (1e9, " ns")))


def _difference_scale(row: Row) -> tuple[float, str]:
    if row.measure.unit == "s":
        largest = max((abs(v) for v in (row.estimate, row.low, row.high) if math.isfinite(v)), default=0.0)
        return next((scale for least, scale in _TIME_SCALES if largest >= least), _TIME_SCALES[0][1])
    if row.measure.unit == "B":
        return 1 / 2**20, " MiB"
    if row.measure.unit == "share":
        return 100.0, " points"
    return 1.0, ""


def change_text(row: Row) -> str:
    """Return the change and its interval in short: "+34 % (+31 to +36)", "5.0x as fast (4.7 to 5.3)"."""
    if not row.looked_at:
        return "not looked at yet"
    numbers, unit = _numbers(row)
    more = "as long" if "slower" in row.measure.words else "as much"
    if math.isnan(row.estimate):
        if row.scale == Scale.RATIO and row.low >= _FACTOR and math.isinf(row.high):
            return f"at least {row.low:.{0 if row.low >= 10 else 1}f}x {more}"
        span = _span(numbers[1], numbers[2])
        return "not bounded" if span == "no bounds" else span + unit
    if _factors(row):
        return f"{numbers[0]}x {more if row.estimate > 1 else 'as fast'} ({_span(numbers[1], numbers[2])})"
    return f"{numbers[0]}{unit} ({_span(numbers[1], numbers[2])})"


def _span(low: str, high: str) -> str:
    if low == high == "?":
        return "no bounds"
    if low == "?":
        return f"at most {high}"
    return f"at least {low}" if high == "?" else f"{low} to {high}"


def interval_text(row: Row) -> str:
    """Return the level of a row's interval in percent, two digits behind the first nines at most."""
    return f"{_level(row.confidence)} % interval"


def _level(confidence: float) -> str:
    return f"{math.floor(confidence * 1000) / 10:g}"


def medians_text(row: Row) -> str:
    """Return both arms' medians: "85.2 ms to 17.1 ms"."""
    if not row.looked_at:
        return "-"
    sides = [
        quantity_text(side.median, row.measure.unit) if math.isfinite(side.median) else "none"
        for side in (row.reference, row.candidate)
    ]
    return " to ".join(sides)


def quoted_texts(row: Row) -> tuple[str, str, str]:
    """Return least, middle and greatest of both arms, as people quote them: "120 ms to 150 ms"; untested."""
    if not row.looked_at:
        return "-", "-", "-"
    pairs = [
        (getattr(row.reference, which), getattr(row.candidate, which)) for which in ("least", "median", "greatest")
    ]
    least, middle, greatest = (
        " to ".join(quantity_text(v, row.measure.unit) if math.isfinite(v) else "none" for v in pair) for pair in pairs
    )
    return least, middle, greatest


def blocks_text(row: Row) -> str:
    """Return how many blocks count, and of how many, where its workload ran on: "9 of 24"; "-" without pairing."""
    if row.pairing != Pairing.BLOCKS:
        return "-"
    return f"{row.blocks} of {row.blocks_run}" if row.blocks_run > row.blocks else str(row.blocks)


def saved_text(row: Row) -> str:
    """Return what the change takes or saves each time, by the medians: "saves 68.1 ms"; "" without a change shown."""
    difference = row.candidate.median - row.reference.median
    if not row.changed or not math.isfinite(difference) or row.measure.unit not in ("s", "B"):
        return ""
    verb = "saves" if difference < 0 else "costs"
    return f"{verb} {quantity_text(abs(difference), row.measure.unit, 2)}"


def lead_text(decision: Decision, row: Row) -> str:
    """Return the first lead of a row's newest inspection, "" where it was not looked into or has none."""
    told = decision.accounts.get(row.key)
    if told is None:
        return ""
    if not told.leads:
        return f"Watched, no place is shown to have changed ({told.run})."
    more = f" and {len(told.leads) - 1} more" if len(told.leads) > 1 else ""
    fate = f"; {told.leads[0].fate}" if told.leads[0].fate else ""
    return f"First lead, watched: {told.leads[0].brief}{more} ({told.run}){fate}."


def row_sentence(row: Row) -> str:
    """Return a row in a sentence without its name: "slower by 3.4 % (2.1 to 4.8 %), 18 blocks"."""
    blocks = f"{counted(row.candidate.trials, 'trial')}, unpaired"
    if row.pairing == Pairing.BLOCKS:
        blocks = f"{blocks_text(row)} block{'' if blocks_text(row) == '1' else 's'}"
    if row.verdict == Verdict.FAILED:
        return f"failed, {blocks}"
    if row.verdict == Verdict.SAME:
        return f"same within the margin ({_ruled_out(row)}), {blocks}"
    if row.verdict == Verdict.UNCLEAR:
        return f"unclear: {'no change shown; ' + _limits(row) if row.looked_at else 'not looked at yet'}, {blocks}"
    numbers, unit = _numbers(row)
    if math.isnan(row.estimate):
        return f"{row.verdict}: {change_text(row)}, {blocks}"
    if _factors(row):
        return f"{row.verdict}: {change_text(row).replace('x ', ' times ')}, {blocks}"
    plain = [n.lstrip("+-") for n in numbers]
    if row.estimate < (1 if row.scale == Scale.RATIO else 0):
        plain[1], plain[2] = plain[2], plain[1]
    return f"{row.verdict} by {plain[0]}{unit} ({_span(plain[1], plain[2])}{unit}), {blocks}"


def _ruled_out(row: Row) -> str:
    more, less = row.measure.words
    if row.scale == Scale.RATIO and math.isfinite(row.high) and row.low > 0:
        parts = [_end(row.low, more, less), _end(row.high, more, less)]
        return f"from {parts[0]} to {parts[1]}"
    return change_text(row)


def _end(ratio: float, more: str, less: str) -> str:
    change = ratio - 1
    if abs(change) < 5e-5:
        return "no change"
    return f"{share_text(abs(change), 2)} {more if change > 0 else less}"


def _limits(row: Row) -> str:
    """Say what an unclear row rules out: "not more than 6 % slower"."""
    more, less = row.measure.words
    if row.scale != Scale.RATIO:
        return f"the interval is {change_text(row).partition('(')[2].rstrip(')') or 'not bounded'}"
    known = []
    if math.isfinite(row.high) and row.high > 1:
        known.append(f"not more than {_size(row.high)} {more}")
    if row.low > 0 and row.low < 1:
        known.append(f"not more than {_size(row.low)} {less}")
    return " nor ".join(known).replace(" nor not", ", nor") or "nothing is ruled out"


def _size(ratio: float) -> str:
    if ratio >= _FACTOR or ratio <= 1 / _FACTOR:
        return f"{max(ratio, 1 / ratio):.1f} times"
    return share_text(abs(ratio - 1), 2)


def _counted(decision: Decision) -> str:
    counts = [f"{count} {verdict}" for verdict, count in decision.summary.items() if count]
    return ", ".join(counts) or "no row"


def compared_text(decision: Decision) -> str:
    """Return which arms are held against which: "flood, slack against ebb"."""
    study = decision.head.study
    by_reference: dict[str, list[str]] = {}
    for comparison in study.comparisons:
        reference, candidate = study.names(comparison)
        by_reference.setdefault(reference, []).append(candidate)
    return "; ".join(f"{', '.join(candidates)} against {name}" for name, candidates in by_reference.items())


def outcome_sentence(decision: Decision) -> str:
    """Return the outcome in one sentence, the worst first."""
    rows = decision.primary
    if not rows:
        return "One arm alone: there is nothing to compare it with yet."
    text = f"Of {len(rows)} comparison{'s' if len(rows) != 1 else ''}: {_counted(decision)}"
    for code, what in (("answer-differs", "with another answer"), ("work-differs", "with other work"),
                       (ACCEPTED_NOTE, "accepted")):  # fmt: skip
        if count := sum(row.has(code) for row in rows):
            text += f"; {count} {what}"
    return text + "."


def settled_sentence(decision: Decision) -> str:
    """Return the day against which it is held what was settled, "" where nothing was."""
    return f"What was settled is held against {decision.decided_on}." if decision.settled else ""


def suite_sentence(decision: Decision) -> str:
    """Return what holds for all rows together."""
    return (
        f"Margin {share_text(decision.margin)}, risk {share_text(decision.risk)}: if nothing had changed, something "
        f"would be shown in at most {share_text(decision.risk)} of such records."
    )


def looks_sentence(decision: Decision) -> str:
    """Return when rows could stop and when they did, or "" where the number of blocks was fixed."""
    looks = decision.looks
    if len(looks.blocks) == 1 or not decision.primary:
        return ""
    planned = f"{', '.join(map(str, looks.blocks[:-1]))} and {looks.most}"
    stops = [row.stop for row in decision.primary]
    early = Counter(stop.blocks for stop in stops if stop.final and stop.reason != StopReason.MOST_BLOCKS)
    decided = ", ".join(f"{count} after {blocks}" for blocks, count in sorted(early.items()))
    clauses = [f"decided {decided}"] if decided else []
    for reason, what in (
        (StopReason.MOST_BLOCKS, "ran to the last"),
        (StopReason.UNFINISHED, "not finished"),
        (StopReason.BEFORE_FIRST_LOOK, "before the first"),
    ):
        if count := sum(stop.reason is reason for stop in stops):
            clauses.append(f"{count} {what}")
    if decision.looks_differ:
        blocks = decision.head.study.blocks_text
        return f"Looks planned from a fifth to all of each workload's {blocks} blocks: {'; '.join(clauses)}."
    least, most = (share_text(end(decision.look_levels), 2) for end in (min, max))
    levels = f"levels {least.removesuffix(' %')} to {most}" if least != most else f"level {least} each"
    return f"Looks planned after {planned} blocks, {levels}: {'; '.join(clauses)}."


_PLACEBOS_NAMED = 3
_MEMORIES_NAMED = 3


def placebo_sentence(decision: Decision) -> str:
    """Return what the placebo shows, or "" without one: its widest intervals tell what this machine can show."""
    rows = decision.placebo
    shown = [row for row in rows if row.verdict != Verdict.UNCLEAR]
    if not rows:
        return ""
    if shown:
        return "The placebo: " + "; ".join(f"{row.workload} {row_sentence(row)}" for row in shown) + "."
    bounded = [row for row in rows if row.scale == Scale.RATIO and row.low > 0 and math.isfinite(row.high)]
    if not bounded:
        return "The placebo shows no difference; it has too few blocks for an interval."
    widest = sorted(bounded, key=lambda row: math.log(row.low) - math.log(row.high))[:_PLACEBOS_NAMED]
    widths = ", ".join(f"{row.workload} {change_text(row).partition('(')[2].rstrip(')')} %" for row in widest)
    level = _level(widest[0].confidence)
    which = f"; its widest {level} % intervals: {widths}" if len(rows) > 1 else f"; its {level} % interval: {widths}"
    return f"The placebo shows no difference{which}. Silence proves nothing."


def failure_sentence(failure: Failure) -> str:
    """Return how a workload failed under an arm: "wait, arm after: 7 of 7 trials failed (exit code 5)"."""
    ways = failure.ways
    how = ways[0][0] if len(ways) == 1 else ", ".join(f"{count} times {way}" for way, count in ways)
    return f"{failure.workload}, arm {failure.arm}: {failure.failed} of {failure.trials} trials failed ({how})"


def memory_sentence(decision: Decision) -> str:
    """Return which workloads take more memory by more than the margin, "" for none.

    Among all other measures few blocks cannot show it; memory alone pays for the number of its own rows (Bonferroni).
    """
    memory = [row for row in decision.secondary if row.measure.name == "peak_memory" and row.scale == Scale.RATIO]
    rows = [
        row for row in memory
        if row.p * len(memory) <= decision.risk
        and math.isfinite(row.estimate) and row.estimate - 1 > decision.margin
    ]  # fmt: skip
    named = [f"{decision.name_of(row)} {medians_text(row)}" for row in sorted(rows, key=lambda row: -row.estimate)]
    return f"More memory: {listed(named, _MEMORIES_NAMED)}." if named else ""


def answer_sentence(decision: Decision) -> str:
    """Return a warning about rows whose answers or work differ, or ""; a command stands on a line of its own."""
    sentences = []
    rows = decision.primary
    if names := list(dict.fromkeys(row.workload for row in rows if row.has("answer-differs"))):
        verb = "gives" if len(names) == 1 else "give"
        sentences.append(f"{', '.join(names)} {verb} another answer: a faster wrong answer is no gain.")
    if others := list(dict.fromkeys(row.workload for row in rows if row.has("work-differs"))):
        verb = "does" if len(others) == 1 else "do"
        sentences.append(f"{', '.join(others)} {verb} other work: arms that do not do the same are not comparable.")
    if names and (again := check_again(decision.head, decision.given, names[0])):
        sentences.append(f"What differs:\n  {again}")
    return " ".join(sentences)
