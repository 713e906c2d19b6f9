"""Rows that can be sorted, filtered and found, each opening to everything that is known of it."""

from __future__ import annotations

import hashlib
import json
import math
import re
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from bystander.design import Comparison, Measure
from bystander.report.pieces.accounts import DrawnAccount, drawn_accounts
from bystander.report.pieces.blocks import BlockPicture, block_picture
from bystander.report.pieces.forest import Bar, Forest, bar, forest
from bystander.report.pieces.lanes import Lanes
from bystander.report.pieces.shifts import Shifts, shifts
from bystander.report.pieces.strip import Strip, strip
from bystander.report.theme import MARKS, TONES
from bystander.units import capital
from bystander.verdicts import (
    Decision,
    Order,
    Relevance,
    Row,
    Scale,
    Single,
    Verdict,
    change_text,
    contribution_text,
    interval_text,
    medians_text,
    quoted_texts,
    row_sentence,
    saved_text,
)

__all__ = ["Choice", "OtherMeasure", "RowView", "RowsView", "changed_secondary", "row_id", "rows_view", "told_notes"]

_SILENT = ("beyond-margin",)  # the words of the row say it
_FLAGS = {"answer-differs": "another answer", "work-differs": "other work"}  # what makes a row worth nothing
AT_ONCE = 200  # rows whose details a page holds ready; those of the others it unfolds when they are opened

Key = tuple[str, Comparison]


@dataclass(frozen=True)
class Choice:
    """Something to filter by: a value, its label, and of how many rows it holds."""

    value: str
    label: str
    count: int


@dataclass(frozen=True)
class OtherMeasure:
    """A row of a measure: in a word, and in numbers."""

    label: str
    verdict: str
    tone: str
    mark: str
    change: str
    medians: str
    level: str
    p: str
    changed: bool


@dataclass(frozen=True)
class RowView:
    """A row as a page shows it.

    Attributes
    ----------
    id : str
        By which it is linked to; the same for the same workload and arms in every record.
    measures, keys : str
        As JSON, for the filter: [position of the measure, verdict, change] of each; and what rows are sorted by.
    numbers : str
        Medians, interval and p.
    quoted : str
        Least and greatest, which are not tested.
    comment : str
        The row as text.
    also : tuple of OtherMeasure
        Other measures that got worse, though the row's own did not.
    flags : tuple of str
        What makes its speed worth nothing.
    seen : sequence of (str, Lanes or None)
        Trials over time: what each is, and its picture where there is one.
    """

    row: Row
    id: str
    name: str
    tone: str
    mark: str
    bar: Bar | None
    change: str
    contribution: str
    also: tuple[OtherMeasure, ...]
    flags: tuple[str, ...]
    others: tuple[OtherMeasure, ...]
    measures: str
    keys: str
    words: str
    fate: str
    sentence: str
    numbers: str
    quoted: str
    notes: tuple[str, ...]
    comment: str
    strip: Strip | None
    shifts: Shifts | None
    blocks: BlockPicture | None
    answer: tuple[str, ...]
    account: DrawnAccount | None
    seen: Sequence[tuple[str, Lanes | None]]


@dataclass(frozen=True)
class RowsView:
    """All rows, and what they can be filtered and sorted by.

    Attributes
    ----------
    forest : Forest or None
        Their axis; None where no row has a ratio.
    at_once : int
        So many rows are held ready.
    """

    rows: tuple[RowView, ...]
    forest: Forest | None
    verdicts: tuple[Choice, ...]
    measures: tuple[Choice, ...]
    words: tuple[Choice, ...]
    fates: tuple[Choice, ...]
    orders: tuple[Choice, ...]
    at_once: int


def changed_secondary(decision: Decision) -> list[Row]:
    """Return rows of other measures that changed and whose size is not within the margin."""
    return [row for row in decision.secondary if _matters(row)]


def told_notes(row: Row) -> list[str]:
    """Return the sentences of a row's notes."""
    return [note.text for note in row.notes if note.code not in _SILENT]


def row_id(name: str) -> str:
    """Return the name by which a page links to a row."""
    return f"row-{hashlib.sha256(name.encode('utf-8', 'surrogatepass')).hexdigest()[:10]}"


def rows_view(decision: Decision, seen: Mapping[str, Sequence[tuple[str, Lanes | None]]]) -> RowsView:
    """Return all rows of the study's measure.

    First what fails or answers otherwise, then what is shown to be worse, then by another measure, what is not clear,
    and the rest; among each by what they cost the whole load, where there is one.

    Parameters
    ----------
    seen : mapping
        By workload: trials over time.
    """
    maker = _Maker(decision, seen)
    rows = decision.primary if decision.order == Order.CONTRIBUTION else sorted(decision.primary, key=maker.first)
    views = tuple(maker.view(row) for row in rows)
    verdicts = Counter(str(view.row.verdict) for view in views)
    words = Counter(word for view in views for word in view.words.split())
    fates = Counter(view.fate for view in views if view.fate)
    return RowsView(
        views, maker.forest,
        tuple(Choice(w, f"{MARKS[w]} {w}", verdicts[w]) for w in decision.summary if w in maker.verdicts),
        tuple(Choice(str(at), measure.label, maker.read[at]) for at, measure in enumerate(maker.measures)),
        tuple(Choice(word, word.replace("-", " "), count) for word, count in sorted(words.items())),
        tuple(Choice(word, word, count) for word, count in sorted(fates.items())),
        tuple(Choice(value, label, 0) for value, label in _orders(bool(maker.contributions), decision.order)),
        AT_ONCE,
    )  # fmt: skip


def _orders(load: bool, order: Order) -> list[tuple[str, str]]:
    """Return what rows are sorted by; the first is how they stand."""
    first, costs = ("", "what matters first"), [("load", "by the whole load")] if load else []
    if order == Order.CONTRIBUTION:
        first, costs = costs[0], []
    return [
        first, *costs, ("worst", "worst first"), ("most", "most slower first"), ("least", "most faster first"),
        ("seconds", "most seconds lost"), ("study", "as in the study"), ("name", "by name"),
    ]  # fmt: skip


def _matters(row: Row) -> bool:
    return row.changed and row.relevance != Relevance.WITHIN


def _beside(row: Row, other: Row) -> bool:
    """Whether another measure tells of harm that the row's own verdict does not."""
    return not other.primary and _matters(other) and Verdict(other.verdict).is_worse and other.verdict != row.verdict


class _Maker:
    """Makes views of rows; everything is looked up by row, as there may be ten thousand."""

    def __init__(self, decision: Decision, seen: Mapping[str, Sequence[tuple[str, Lanes | None]]]) -> None:
        self.decision, self.seen, self.forest = decision, seen, forest(decision)
        self.measures: list[Measure] = list(dict.fromkeys([decision.measure, *(row.measure for row in decision.rows)]))
        self._places = {measure: at for at, measure in enumerate(self.measures)}
        self._others: dict[Key, list[Row]] = defaultdict(list)
        for row in decision.rows:
            self._others[row.key].append(row)
        self.verdicts = {str(row.verdict) for row in decision.rows}
        self.read = Counter(self._places[row.measure] for row in decision.rows)
        self._singles: dict[str, dict[str, Single]] = defaultdict(dict)
        for single in decision.singles:
            if single.measure == decision.measure:
                self._singles[single.workload][single.arm] = single
        self._parts = {(one.workload, one.comparison): one for one in decision.distributions}
        self._accounts = dict(drawn_accounts(decision))
        study = [workload.name for workload in decision.head.study.workloads]
        self._in_study = {name: at for at, name in enumerate(study)}
        self._worst = {row.key: at for at, row in enumerate(decision.primary)}
        by_name = sorted(decision.primary, key=lambda row: _natural(decision.name_of(row)))
        self._names = {row.key: at for at, row in enumerate(by_name)}
        self._fates = {(one.entry.workload, one.entry.arm): str(one.standing) for one in decision.settled
                       if one.entry.measure == decision.measure.name}  # fmt: skip
        self.contributions = {
            (part.workload, load.arm): (part.contribution, contribution_text(load, part.workload))
            for load in decision.loads
            for part in load.parts
        }

    def first(self, row: Row) -> tuple[int, float, int]:
        """Return a key by which rows stand: what was judged already is not on top, and noise is not before evidence."""
        contribution = self._contribution(row)[0]
        verdict = Verdict(row.verdict)
        if verdict == Verdict.FAILED or any(map(row.has, _FLAGS)):
            group = 0
        elif verdict.is_worse:
            group = 2 if row.accepted else 1
        elif any(_beside(row, other) for other in self._others[row.key]):
            group = 3
        else:
            group = 4 if verdict == Verdict.UNCLEAR else 5
        return group, 0.0 if math.isnan(contribution) else -contribution, self._worst[row.key]

    def _contribution(self, row: Row) -> tuple[float, str]:
        return self.contributions.get((row.workload, row.arm), (math.nan, ""))

    def view(self, row: Row) -> RowView:
        """Return one row."""
        decision, name, contribution = self.decision, self.decision.name_of(row), self._contribution(row)
        others = [(one, self._measured(one)) for one in self._others[row.key]]
        account = self._accounts.get(row.key)
        words = [note.code for note in row.notes if note.code not in _SILENT]
        return RowView(
            row=row, id=row_id(name), name=name, tone=TONES[row.verdict], mark=MARKS[row.verdict],
            bar=bar(self.forest.axis, row) if self.forest else None, change=change_text(row),
            contribution=contribution[1], also=tuple(seen for one, seen in others if _beside(row, one)),
            flags=tuple(text for code, text in _FLAGS.items() if row.has(code)),
            others=tuple(seen for _, seen in others),
            measures=json.dumps([[self._places[one.measure], one.verdict, seen.change] for one, seen in others]),
            keys=json.dumps(self._keys(row, contribution[0])), words=" ".join(dict.fromkeys(words)),
            fate=self._fates.get((row.workload, row.arm), ""), sentence=row_sentence(row), numbers=_numbers(row),
            quoted=_quoted(row), notes=tuple(told_notes(row)), comment=_comment(decision, row, name),
            strip=strip(row, self._singles[row.workload]), shifts=shifts(self._parts.get(row.key), row.margin),
            blocks=block_picture(decision.series.get(row.key), row), answer=decision.answers.get(row.key, ()),
            account=account, seen=self.seen.get(row.workload, ()),
        )  # fmt: skip

    def _measured(self, row: Row) -> OtherMeasure:
        p = "" if math.isnan(row.p) else f"{row.p:.2g}, adjusted {row.p_adjusted:.2g}"
        return OtherMeasure(
            row.measure.label, row.verdict, TONES[row.verdict], MARKS[row.verdict], change_text(row), medians_text(row),
            interval_text(row), p, row.changed,
        )  # fmt: skip

    def _keys(self, row: Row, contribution: float) -> list[float | None]:
        """Return what the row is sorted by: worst, in the study, change, contribution, seconds lost each time, name."""
        lost = row.candidate.median - row.reference.median
        change = math.log(row.estimate) if row.scale == Scale.RATIO and row.estimate > 0 else row.estimate
        values = [self._worst[row.key], self._in_study[row.workload], change, contribution, lost, self._names[row.key]]
        return [float(f"{value:.6g}") if math.isfinite(value) else None for value in values]


def _natural(name: str) -> list[tuple[int, str]]:
    """Return a key by which tide-9 comes before tide-10."""
    return [(int(part), "") if part.isdecimal() else (-1, part.casefold()) for part in re.split(r"(\d{1,18})", name)]


def _numbers(row: Row) -> str:
    saved = f"; {saved_text(row)} each time" if saved_text(row) else ""
    p = "" if math.isnan(row.p) else f", p {row.p:.2g}, {row.p_adjusted:.2g} after adjustment"
    return f"medians {medians_text(row)}{saved}; {interval_text(row)}{p}"


def _quoted(row: Row) -> str:
    least, _, greatest = quoted_texts(row)
    return f"not tested: least {least}, greatest {greatest}" if row.looked_at else ""


def _comment(decision: Decision, row: Row, name: str) -> str:
    """Return a row as text for a comment: what, how sure, and in which record."""
    head = decision.head
    lines = [f"{name}: {row_sentence(row)}.", f"{capital(_numbers(row))}."]
    return "\n".join([*lines, *told_notes(row)[:3], f"Bystander, record {head.name} of {head.study.name}."])
