"""What a gate looks for: words, and the measures on which they are looked for."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from bystander.design.measures import MEASURES, Measure, told_measure

__all__ = ["CHANGES", "COMPARING", "GATE_WORDS", "OF_CEILINGS", "Gate", "gated_measure", "missing_measures"]

CHANGES = ("slower", "faster", "more", "less", "lower", "higher")
_OF_ARMS = ("failed", "any-failure")
_OF_ROWS = ("unclear", "not-ruled-out", "other-answer", "other-work")
_OF_RECORDS = ("unfinished", "tainted")
OF_CEILINGS = ("broken", "not-held")
GATE_WORDS = (*CHANGES, *_OF_ARMS, *_OF_ROWS, *OF_CEILINGS, *_OF_RECORDS)
COMPARING = (*CHANGES, *_OF_ROWS)  # words that no arm can show alone


@dataclass(frozen=True)
class Gate:
    """What a study's gate looks for.

    Attributes
    ----------
    stop : tuple of str
        Among `GATE_WORDS`; empty where the study says nothing.
    measures : tuple of str
        On these; together they are the family over which the risk is held. Empty for the study's measure alone.
    """

    stop: tuple[str, ...] = ()
    measures: tuple[str, ...] = ()


def gated_measure(name: str) -> Measure:
    """Return the measure of that name as far as it is known before anything has run."""
    return MEASURES.get(name) or told_measure(name)


def missing_measures(words: Sequence[str], gated: Iterable[Measure], known: Iterable[Measure]) -> list[tuple[str, str]]:
    """Return each word that no gated measure can show, with one that could, "" where there is none.

    Parameters
    ----------
    known : iterable of Measure
        All that there are.
    """
    shown = {word for measure in gated for word in measure.words if measure.better}
    others = [measure for measure in known if measure.better and measure.decided]
    return [
        (word, next((measure.name for measure in others if word in measure.words), ""))
        for word in words
        if word in CHANGES and word not in shown
    ]
