"""The gate of a pipeline: what was looked for and found, what could not be told, and what a pass does not rule out.

Its family is every gated measure of every comparison of the stored plan: m = comparisons x measures. A change counts
where Holm's adjustment (1979) over the family shows it at the study's risk and its interval does not lie within the
margin. `not-ruled-out` and every pass use the one-sided bound of each row at risk / m, failures included.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bystander.design import (
    CHANGES,
    COMPARING,
    GATE_WORDS,
    OF_CEILINGS,
    Measure,
    RecordHead,
    Study,
    gated_measure,
    is_told,
    missing_measures,
)
from bystander.errors import GateError, UsageError
from bystander.stats import holm
from bystander.units import counted, listed, quantity_text, share_text
from bystander.verdicts.ceilings import SESSIONS_ENOUGH, CeilingRow
from bystander.verdicts.types import Decision, GateAsk, Row
from bystander.verdicts.words import CeilingVerdict, Relevance, Scale, Verdict

__all__ = ["GateFinding", "NotRuledOut", "gate", "gate_ask", "gate_words", "refuse_gate", "row_name"]

OF_STUDY = "study"  # in the place of words: what the study says
GATE_ALSO = ("unrandomised", "dependent")


@dataclass(frozen=True)
class NotRuledOut:
    """How much worse a row may still be, by the gate's one-sided bound.

    Attributes
    ----------
    worse : float
        A share for ratios (0.06: 6 % worse), an amount for differences; infinite where nothing is ruled out.
    beyond : bool
        Whether that is more than the margin.
    """

    row: Row
    worse: float
    beyond: bool

    @property
    def text(self) -> str:
        """As people say it: "6 %", "12 ms", or "any size"."""
        if math.isinf(self.worse):
            return "any size"
        ratio = self.row.scale == Scale.RATIO
        return share_text(self.worse) if ratio else quantity_text(self.worse, self.row.measure.unit)


@dataclass(frozen=True)
class GateFinding:
    """What came of a gate.

    Attributes
    ----------
    found : tuple of (str, str)
        What was looked for and found: the word, and of what.
    untold : tuple of str
        Sentences on what was asked and could not be told.
    left_out : tuple of Row
        Rows that the gate did not count, as their trials are not known to be in random order.
    accepted : tuple of (str, str)
        What would have been found, and was accepted.
    stopping : tuple of (str, Row or CeilingRow)
        What is found of rows and ceilings: the word, and the very row.
    bounds : tuple of NotRuledOut
        Of every row whose measure has a worse side, the largest first.
    """

    ask: GateAsk
    found: tuple[tuple[str, str], ...]
    untold: tuple[str, ...]
    left_out: tuple[Row, ...]
    bounds: tuple[NotRuledOut, ...]
    accepted: tuple[tuple[str, str], ...] = ()
    stopping: tuple[tuple[str, Row | CeilingRow], ...] = ()

    @cached_property
    def _words(self) -> dict[int, list[str]]:
        found: dict[int, list[str]] = {}
        for word, row in self.stopping:
            found.setdefault(id(row), []).append(word)
        return found

    def words_of(self, row: Row | CeilingRow) -> tuple[str, ...]:
        """Return what is found of a row, or of a ceiling, of the decision that was held against the gate."""
        return tuple(dict.fromkeys(self._words.get(id(row), ())))

    @property
    def of_record(self) -> tuple[tuple[str, str], ...]:
        """What is found of arms alone, and of the record as a whole: the word, and of what."""
        words = {word for word, _ in self.stopping}
        return tuple((word, what) for word, what in self.found if word not in words)


def gate_words(text: str) -> tuple[str, ...]:
    """Return the words of a list such as "slower,failed", or "study" alone; raise UsageError on any other word."""
    words = tuple(dict.fromkeys(word.strip() for word in text.split(",") if word.strip()))
    for word in words or ("",):
        if word not in GATE_WORDS and words != (OF_STUDY,):
            raise UsageError(
                f'--gate: "{word}" is nothing to look for; choose among {", ".join(GATE_WORDS)}, or {OF_STUDY} alone'
            )
    return words


def gate_ask(words: tuple[str, ...], study: Study, also: str | None = None) -> GateAsk:
    """Return what is asked of a study or its record.

    Parameters
    ----------
    words : tuple of str
        As `gate_words` returns them.
    also : str or None
        What the gate counts besides: words among `GATE_ALSO`, separated by commas.

    Raises
    ------
    UsageError
        Where the study is asked for what stops and does not say.
    """
    besides = [word.strip() for word in (also or "").split(",") if word.strip()]
    if also is not None and (not besides or set(besides) - set(GATE_ALSO)):
        raise UsageError(f'--gate-also: "{also}" is nothing that a gate leaves out; write {" or ".join(GATE_ALSO)}')
    if words == (OF_STUDY,) and not study.gate.stop:
        raise UsageError(
            '--gate study: the study does not say what stops; write [gate] with stop = ["slower", "failed"]'
        )
    stop = study.gate.stop if words == (OF_STUDY,) else words
    return GateAsk(stop, study.gate.measures, *(word in besides for word in GATE_ALSO))


def refuse_gate(ask: GateAsk, study: Study) -> None:
    """Refuse before the first trial what no record of this study could answer.

    Raises
    ------
    UsageError
        When there is one arm, and a word that compares two.
    GateError
        When no gated measure can be what is looked for.
    """
    comparing = [word for word in ask.words if word in COMPARING]
    if comparing and not study.comparisons:
        raise UsageError(f"--gate: {comparing[0]} compares two arms, and there is one; any-failure looks at one alone")
    names = ask.measures or (study.measure,)
    known = [gated_measure(name) for name in (*names, "elapsed", "peak_memory")]
    lacking = _cannot_show(ask, [gated_measure(name) for name in names if not name.startswith("reading:")], known)
    lacking += _no_answers(ask, study) + _no_ceilings(ask, study)
    if lacking and not any(name.startswith("reading:") for name in names):  # which side of those is better they tell
        raise GateError(f"--gate: {lacking[0]}")


def _cannot_show(ask: GateAsk, gated: Sequence[Measure], known: Sequence[Measure]) -> list[str]:
    names = ", ".join(measure.name for measure in gated)
    sentences = []
    for word, other in missing_measures(ask.words, gated, known):
        hint = f'; add "{other}" to [gate] measures in the study' if other else "; nor is there another one"
        sentences.append(f"{names or 'no measure'} cannot be {word}{hint}")
    return sentences


def _no_answers(ask: GateAsk, study: Study) -> list[str]:
    if "other-answer" not in ask.words or any(workload.answer for workload in study.workloads):
        return []
    return ['no workload compares answers, so that none can be another; answer = "output" does']


def _no_ceilings(ask: GateAsk, study: Study) -> list[str]:
    if study.ceilings or not set(ask.words) & set(OF_CEILINGS):
        return []
    word = next(word for word in ask.words if word in OF_CEILINGS)
    return [f'no workload has a ceiling, so that none can be {word}; ceiling = "250 ms" sets one']


def gate(decision: Decision, ask: GateAsk) -> GateFinding:
    """Return what is found, what could not be told, and what a pass does not rule out.

    Raises
    ------
    UsageError
        When the decision is an exploration: what was chosen after the readings were seen gates nothing.
    """
    if decision.exploration:
        raise UsageError(f"--gate goes with what the study fixed, and this is exploration: {decision.exploration[0]}")
    names = ask.measures or (decision.measure.name,)
    rows = [row for row in decision.rows if row.measure.name in names]
    doubtful = [row for row in rows if row.has("unrandomised") and not ask.also_unrandomised]
    apart = [row for row in rows if row.has("hours-apart")]
    left_out = [row for row in rows if row in doubtful or row in apart]
    rows = [row for row in rows if row not in left_out]
    family = max(decision.comparisons * len(names), len(rows))
    p = np.array([1.0 if np.isnan(row.p) else row.p for row in rows])
    certain = (holm(p, family) <= decision.risk).tolist() if rows else []
    bounds = sorted((_bound(row) for row in rows if row.measure.better), key=lambda one: -one.worse)
    seen = [(row, word) for row, sure in zip(rows, certain, strict=True) for word in _words(row, sure, ask)]
    seen += [(one.row, "not-ruled-out") for one in bounds if one.beyond and "not-ruled-out" in ask.words]
    stopping: list[tuple[str, Row | CeilingRow]] = [(word, row) for row, word in seen if not _passes(row, word)]
    stopping += [(word, row) for row in _gated_ceilings(decision) for word in _ceiling_words(row, ask)]
    found = [(word, row_name(row)) for word, row in stopping]
    accepted = [_named(row, word) for row, word in seen if _passes(row, word)]
    found += _of_record(decision, ask)
    untold = _untold(decision, ask, names, rows, doubtful, apart)
    return GateFinding(
        ask,
        tuple(dict.fromkeys(found)),
        tuple(untold),
        tuple(left_out),
        tuple(bounds),
        tuple(dict.fromkeys(accepted)),
        tuple(stopping),
    )


def _passes(row: Row, word: str) -> bool:
    """Whether a word is found of a row and passes, as somebody accepted the change; a wrong answer is no change."""
    return row.accepted and (word in CHANGES or word in ("unclear", "not-ruled-out"))


def _named(row: Row, word: str) -> tuple[str, str]:
    return word, row_name(row)


def row_name(row: Row | CeilingRow) -> str:
    """Return what a gate calls a row, or a ceiling."""
    if isinstance(row, CeilingRow):
        return f"{row.workload} under {row.arm}, {row.ceiling.text(row.measure.unit)}"
    return row.workload if row.primary else f"{row.workload}, {row.measure.label}"


def _words(row: Row, certain: bool, ask: GateAsk) -> list[str]:
    """Return the words that are looked for and hold of a row."""
    holding = []
    if row.primary:
        holding += ["other-answer"] * row.has("answer-differs") + ["other-work"] * row.has("work-differs")
        holding += ["failed"] * (row.verdict == Verdict.FAILED or row.has("reference-fails-more"))
    if row.verdict == Verdict.UNCLEAR:
        holding.append("unclear")
    zero = 1.0 if row.scale == Scale.RATIO else 0.0
    matters = row.verdict not in (Verdict.FAILED, Verdict.SAME) and row.relevance != Relevance.WITHIN
    if certain and matters and row.measure.better:
        # Without an estimate, as readings lie at their floor or trials failed, the interval says which way.
        where = row.low if math.isnan(row.estimate) else row.estimate
        holding.append(row.measure.words[0 if where > zero else 1])
    return [word for word in holding if word in ask.words]


def _gated_ceilings(decision: Decision) -> list[CeilingRow]:
    """Return the ceilings that a gate looks at: of candidates, or of the one arm that there is."""
    candidates = decision.candidates
    return [row for row in decision.ceilings if not candidates or row.arm in candidates]


def _ceiling_words(row: CeilingRow, ask: GateAsk) -> list[str]:
    sure = ask.also_dependent or not row.doubtful
    held = row.verdict == CeilingVerdict.HOLDS and sure
    holding = ["broken"] * (row.verdict == CeilingVerdict.BROKEN and sure) + ["not-held"] * (not held)
    return [word for word in holding if word in ask.words]


def _untold_ceilings(decision: Decision, ask: GateAsk) -> list[str]:
    """Return what was asked of ceilings and cannot be told: dependent trials, and none that told the measure."""
    if not set(ask.words) & set(OF_CEILINGS):
        return []
    sentences = []
    rows = _gated_ceilings(decision)
    silent = [row for row in rows if row.looked_at and not row.trials]
    if "broken" in ask.words and silent:
        sentences.append(f"no trial told what the ceiling of {_workloads(silent)} is about")
    doubtful = [row for row in rows if row.doubtful and not ask.also_dependent]
    if "broken" in ask.words and doubtful:
        sentences.append(
            f"{counted(len(doubtful), 'ceiling')} left out, as the trials depend on each other in time "
            f"({_workloads(doubtful)}); --gate-also dependent counts them, --sessions {SESSIONS_ENOUGH} spreads them"
        )
    return sentences + _no_ceilings(ask, decision.head.study)


def _bound(row: Row) -> NotRuledOut:
    more = row.measure.better == "more"
    if row.worse_bound is None or math.isnan(row.worse_bound) or row.verdict == Verdict.FAILED:
        return NotRuledOut(row, math.inf, beyond=True)
    if row.scale == Scale.RATIO:
        worse = 1 - row.worse_bound if more else row.worse_bound - 1
        limit = 1 - 1 / (1 + row.margin) if more else row.margin
    else:
        worse, limit = -row.worse_bound if more else row.worse_bound, row.margin
    nothing = more and row.scale == Scale.RATIO and row.worse_bound <= 0
    return NotRuledOut(row, math.inf if nothing else max(0.0, worse), worse > limit)


def _of_record(decision: Decision, ask: GateAsk) -> list[tuple[str, str]]:
    """Return what is found of arms alone, and of the record as a whole."""
    arms = {decision.head.study.reference.name, *(arm for row in decision.primary for arm in (row.against, row.arm))}
    found = []
    for failure in decision.failures:
        if failure.arm not in arms:
            continue
        if "any-failure" in ask.words:
            found.append(("any-failure", f"{failure.workload}, arm {failure.arm}"))
        if "failed" in ask.words and not decision.candidates and failure.failed == failure.trials:
            found.append(("failed", failure.workload))
    found += [("unfinished", decision.head.name)] * ("unfinished" in ask.words and not decision.head.complete)
    return found + [("tainted", decision.head.name)] * ("tainted" in ask.words and decision.tainted)


def _untold(
    decision: Decision,
    ask: GateAsk,
    names: Sequence[str],
    rows: Sequence[Row],
    doubtful: Sequence[Row],
    apart: Sequence[Row],
) -> list[str]:
    """Return what was asked and cannot be told, one sentence each."""
    head, sentences = decision.head, []
    if not head.complete:
        sentences.append("the record is unfinished")
    if decision.tainted:
        sentences += [note.text for note in decision.notes if note.code == "placebo-tainted"]
    if doubtful:
        sentences.append(
            f"{counted(len(doubtful), 'row')} left out, as the trials are not known to be in random order "
            f"({_workloads(doubtful)}); --gate-also unrandomised counts them"
        )
    if apart:
        sentences.append(f"{counted(len(apart), 'row')} left out, as the trials of both arms did not run back to back")
    if silent := [row for row in rows if row.has("no-trials") or row.has("not-read")]:
        sentences.append(f"of {_workloads(silent)} there is nothing to compare")
    sentences += _untold_ceilings(decision, ask)
    if not decision.candidates:
        sentences += [f"{word} compares two arms, and there is one" for word in ask.words if word in COMPARING][:1]
        return sentences
    sentences += _unread(head, names)
    known = [measure for measure in head.measures if measure.name in names]
    return sentences + _cannot_show(ask, known, head.measures) + _no_answers(ask, head.study)


def _unread(head: RecordHead, names: Sequence[str]) -> list[str]:
    there = {measure.name for measure in head.measures}
    return [
        f"{name} was {'told by no program' if is_told(name) else 'not read'}" for name in names if name not in there
    ]


def _workloads(rows: Sequence[Row | CeilingRow]) -> str:
    return listed(list(dict.fromkeys(row.workload for row in rows)), 3)
