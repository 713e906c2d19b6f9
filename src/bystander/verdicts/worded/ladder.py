"""A ladder as people say it: each edit's own gain, how far it has come, how large it is, and what became of it."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator

from bystander.design import ChainKind, EditSize, command_line
from bystander.units import counted, listed, quantity_text, share_text
from bystander.verdicts.ladders import Ladder, Rung, SoFar
from bystander.verdicts.types import Row
from bystander.verdicts.wholes import Whole
from bystander.verdicts.worded.sentences import change_text, decimals, row_sentence
from bystander.verdicts.worded.steps import StepAxis, step_axis
from bystander.verdicts.words import Scale, Verdict

__all__ = [
    "edit_text",
    "gain_of",
    "ladder_axis",
    "ladder_lines",
    "ladder_notes",
    "rung_state",
    "seen_text",
    "so_far_text",
    "whole_text",
    "whole_verdict",
]

_NAMED, _FACTOR = 5, 2.0


def edit_text(size: EditSize | None) -> str:
    """Return the size of an edit: "+12 -3"; "" where nobody knows."""
    return "" if size is None else f"+{size.added} -{size.removed}"


def so_far_text(one: SoFar) -> str:
    """Return a state against the first: "-12 %", "3.6x as fast", as many digits as its interval has."""
    if math.isnan(one.estimate):
        return "-"
    if one.scale != Scale.RATIO:
        return f"{one.estimate:+.3g}"
    ends = one.low, one.high
    if one.estimate <= 1 / _FACTOR:
        inverse = [1 / v if 0 < v < math.inf else math.inf for v in ends]
        return f"{1 / one.estimate:.{max(1, decimals(inverse, 2))}f}x as fast"
    if one.estimate >= _FACTOR:
        return f"{one.estimate:.{max(1, decimals(ends, 2))}f}x as long"
    percents = [100 * (v - 1) for v in (one.estimate, *ends)]
    text = f"{percents[0]:+.{decimals(percents[1:], 2)}f}"
    return f"{text[1:] if not float(text) else text} %"


def whole_text(one: Whole | None) -> str:
    """Return what all workloads say together: "-3.4 % (-4.7 to -2.1)"; "" where there is no total."""
    if one is None or not one.known:
        return ""
    if not 1 / _FACTOR < one.ratio < _FACTOR:
        values = [one.ratio, one.low, one.high]
        if one.ratio < 1:
            values = [1 / v if v > 0 else math.inf for v in (one.ratio, one.high, one.low)]
        places = max(1, decimals(values[1:], 2))
        numbers = [f"{v:.{places}f}" if math.isfinite(v) else "?" for v in values]
        return f"{numbers[0]}x {'as fast' if one.ratio < 1 else 'as long'} ({numbers[1]} to {numbers[2]})"
    percents = [100 * (v - 1) for v in (one.ratio, one.low, one.high)]
    places = decimals(percents[1:], 2)
    numbers = [f"{v:+.{places}f}" for v in percents]
    numbers = [text[1:] if not float(text) else text for text in numbers]
    return f"{numbers[0]} % ({numbers[1]} to {numbers[2]})"


def whole_verdict(one: Whole | None, margin: float, words: tuple[str, str]) -> str:
    """Return the word for what all workloads say together, by its interval, which allows for the number of links."""
    if one is None or not one.known:
        return Verdict.UNCLEAR
    if one.low > 1 or one.high < 1:
        return words[0] if one.low > 1 else words[1]
    return Verdict.SAME if one.low >= 1 / (1 + margin) and one.high <= 1 + margin else Verdict.UNCLEAR


def gain_of(rung: Rung, ladder: Ladder) -> tuple[str, str]:
    """Return verdict and change of a rung's own gain: of its one workload, or of all together."""
    if ladder.alone:
        return rung.rows[0].verdict, change_text(rung.rows[0])
    verdict = whole_verdict(rung.together, ladder.margin, ladder.measure.words)
    return verdict, whole_text(rung.together) or _why_none(rung.together)


def _why_none(whole: Whole | None) -> str:
    """Return why all workloads together say nothing, in two words."""
    if whole is not None and (whole.other_answer or whole.failed):
        return "another answer" if whole.other_answer else "it fails"
    return "no total"


def ladder_axis(ladder: Ladder) -> StepAxis:
    """Return the axis on which all gains can be read, with the intervals of those that are shown."""
    return step_axis(_ratios(ladder))


def _ratios(ladder: Ladder) -> Iterator[float]:
    for rung in ladder.rungs:
        whole = None if ladder.alone else rung.together
        if whole is not None and whole.known:
            yield from (whole.ratio, whole.low, whole.high)
        for row in rung.rows:
            if row.scale == Scale.RATIO:
                yield row.estimate
                if row.changed:  # an unclear one may go on beyond the axis
                    yield from (row.low, row.high)


def rung_state(rung: Rung) -> str:
    """Return what a rung's state is called, and what became of the edit: "1a2b3c4, kept"."""
    return rung.link.name + (f", {rung.fate}" if rung.fate else "")


def seen_text(ladder: Ladder) -> str:
    """Return what so many blocks could see of a link; "" where that is not known."""
    if math.isnan(ladder.seen_from):
        return ""
    sizes = [
        share_text(value) if ladder.alone else f"{share_text(value)} ({name})"
        for name, value in zip(ladder.workloads, ladder.smallest, strict=True)
        if not math.isnan(value)
    ]
    return (
        f"With {counted(ladder.blocks, 'block')} gains of {listed(sizes, _NAMED)} and more of a link are shown in 8 of "
        "10 such chains."
    )


def ladder_lines(ladder: Ladder) -> list[str]:
    """Return what a ladder says, a line each: its links counted, the total, the best and the worst, what holds."""
    links = [row for rung in ladder.rungs for row in rung.rows]
    counts = Counter(row.verdict for row in links)
    said = ", ".join(f"{counts[verdict]} {verdict}" for verdict in Verdict if counts[verdict])
    what = {ChainKind.PIECES: "comparison", ChainKind.AGAIN: "gain"}.get(ladder.kind, "link")
    each = "" if ladder.alone else f" of {counted(len(ladder.workloads), 'workload')}"
    lines = [f"{counted(len(ladder.rungs), what)}{each}, {counted(ladder.blocks, 'block')}: {said}."]
    if text := _total(ladder):
        lines.append(text)
    risk = share_text(ladder.risk)
    if ladder.kind is ChainKind.PIECES:
        lines.append(f"That any of them is shown as changed by luck has a risk of {risk} (Holm over all of them).")
        return lines
    lines.append(
        f"If no edit had changed anything, one would be shown in at most {risk} of such chains; the total is the last "
        "state against the first in the same blocks, no product of links."
        if ladder.kind.climbs
        else f"If none of them paid, one would be shown in at most {risk} of such records."
    )
    wish = ladder.head.study.chain.change if ladder.head.study.chain else None
    if wish and ladder.seen_from > wish:
        lines.append(f"{share_text(wish)} was asked for; only gains of {share_text(ladder.seen_from)} could be seen.")
    if (seen := seen_text(ladder)) and counts[Verdict.UNCLEAR] + counts[Verdict.SAME]:
        lines.append(seen)
    return lines


def _total(ladder: Ladder) -> str:
    if not ladder.total:
        return ""
    last = ladder.rungs[-1].link.arm if ladder.kind.climbs else ladder.head.study.arms[1].name
    if ladder.alone:
        (row,) = ladder.total
        return f"In all ({last} against {ladder.first_name}) {row_sentence(row)}{_seconds(row)}."
    whole = ladder.total_load or ladder.total_mean
    if whole is None:
        return ""
    if not whole.known:
        left = listed([*whole.other_answer, *whole.failed, *(name for name, _ in whole.prevented)], _NAMED)
        return f"In all, {last} against {ladder.first_name}, there is no total over workloads (left out: {left})."
    what = "the whole load" if whole is ladder.total_load else "the geometric mean"
    return f"In all, {last} against {ladder.first_name}, {what}: {whole_text(whole)}."


def _seconds(row: Row) -> str:
    values = row.reference.median, row.candidate.median
    if row.measure.unit not in ("s", "B") or not all(map(math.isfinite, values)):
        return ""
    return f", {' to '.join(quantity_text(value, row.measure.unit) for value in values)}"


def ladder_notes(ladder: Ladder) -> list[str]:
    """Return what must be known of single links, a line each: other answers, failures, lumped edits, states joined."""
    found = [ladder.placebo] if ladder.placebo else []
    for rung in ladder.rungs:
        name, size = rung.link.name, rung.link.size
        if others := [row for row in rung.rows if row.has("answer-differs")]:
            of = "" if ladder.alone else f" of {listed([row.workload for row in others], _NAMED)}"
            found.append(
                f"{name} gives another answer{of} than {others[0].against}: what is faster and wrong is no gain."
            )
        if failed := [row.workload for row in rung.rows if row.verdict == Verdict.FAILED]:
            found.append(f"{name} fails in {listed(failed, _NAMED)}.")
        for one in rung.link.joined:
            found.append(f"{one.name} could not be built, and its edit counts with {name}: {one.why}.")
        if size and size.lumped and ladder.kind is ChainKind.LINKS:
            lines = f"{name} is {counted(size.added + size.removed, 'line')} in {counted(size.hunks, 'hunk')}"
            apart = f": this tries them apart:\n  {command_line('chain', rung.record, '--hunks', name)}"
            found.append(lines + (apart if ladder.head.observed_here else "."))
        if ladder.kind is ChainKind.AGAIN and gain_of(rung, ladder)[0] != ladder.measure.words[1]:
            found.append(f"{name} no longer pays, as far as is shown: without it the newest state is no slower.")
        if rung.because:
            found.append(f"{name} was {rung.fate}: {rung.because}.")
    return found + _disagreeing(ladder) + _of_rows(ladder)


def _disagreeing(ladder: Ladder) -> list[str]:
    """Say which pieces do not add up, and what tells why."""
    found, unit = [], ladder.measure.unit
    rows = {(rung.link.name, row.workload): row for rung in ladder.rungs for row in rung.rows}
    for one in ladder.disagree:
        of = "" if ladder.alone else f" in {one.workload}"
        costs = all(rows[f"{one.piece} {how}", one.workload].estimate > 1 for how in ("alone", "last"))
        more = "more" if costs == (one.estimate > 0) else "less"
        much = f"{quantity_text(abs(one.estimate), unit)} " if unit in ("s", "B") else ""
        found.append(
            f"Piece {one.piece} {'costs' if costs else 'gains'} {much}{more} by itself than on top of the others{of} "
            f"(p {one.p_adjusted:.2g} after adjustment): it is not independent of them."
        )
    if found and ladder.head.observed_here and not any(" after " in rung.link.name for rung in ladder.rungs):
        found.append(f"This tries such pieces in pairs:\n  {command_line('chain', ladder.head.name, '--pairs')}")
    return found


_TOLD = ("beyond-margin", "within-margin", "margin-undetermined", "answer-differs", "no-change-shown", "needs-blocks",
         "change-detectable", "outlying-blocks", "failures-kept")  # fmt: skip


def _of_rows(ladder: Ladder) -> list[str]:
    """Return what else stands on rows, each with the links that it stands on."""
    texts: dict[str, list[str]] = {}
    for rung in ladder.rungs:
        for row in rung.rows:
            for note in row.notes:
                if note.code not in _TOLD:
                    texts.setdefault(note.text, []).append(_where(rung, row, ladder))
    return [f"{listed(list(dict.fromkeys(names)), _NAMED)}: {text}" for text, names in texts.items()]


def _where(rung: Rung, row: Row, ladder: Ladder) -> str:
    return rung.link.name if ladder.alone else f"{row.workload} · {rung.link.name}"
