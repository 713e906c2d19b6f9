"""What was expected of places before looking, and what their source lets one guess."""

from __future__ import annotations

import math
from dataclasses import dataclass

from bystander.design.inside.watched import Place
from bystander.units import duration_text, share_text

__all__ = ["Expectation", "Hint", "expectation_brief", "expectation_sentence"]

_DIGITS = 3


@dataclass(frozen=True)
class Expectation:
    """A share of the whole that places were expected to take, and the one that they take.

    Attributes
    ----------
    word : str
        As the study has it: a label, a name, a file, or a pattern of these.
    arm : str
    places : tuple of Place
        What the word means; those that take most first. Empty where nothing was met.
    expected, share : float
        Of the whole of a trial, with what the places call; from 0 to 1.
    low, high : float
        Of the share, over trials; 0 and 1 where one trial bounds nothing.
    seconds : float
        A trial.
    total_s : float
        The whole, of which these are shares.
    trials : int
    """

    word: str
    arm: str
    places: tuple[Place, ...]
    expected: float
    share: float
    low: float
    high: float
    seconds: float
    total_s: float
    trials: int

    @property
    def surprise(self) -> bool:
        """Whether the share is shown to be more than was expected."""
        return self.low > self.expected

    @property
    def bounded(self) -> bool:
        """Whether there were trials enough for an interval."""
        return self.trials > 1


def expectation_sentence(one: Expectation) -> str:
    """Say what was expected and what was found: "34 % (31 to 37 %) of 168 ms under after, expected 10 %: ..."."""
    if not one.places:
        return f"{one.word}: nothing of that name was met under {one.arm}, expected {share_text(one.expected)}"
    shown_less = one.bounded and one.high < one.expected
    verdict = "a surprise" if one.surprise else "less than that" if shown_less else "not shown to be more"
    return f"{one.word} under {one.arm}: {expectation_brief(one)}: {verdict}"


def expectation_brief(one: Expectation) -> str:
    """Return what was found beside what was expected: "34 % (31 % to 37 %) of 168 ms, expected 10 %"."""
    share, low, high = (share_text(value, _DIGITS) for value in (one.share, one.low, one.high))
    between = f" ({low} to {high})" if one.bounded else " (one trial, not bounded)"
    return f"{share}{between} of {duration_text(one.total_s)}, expected {share_text(one.expected)}"


@dataclass(frozen=True)
class Hint:
    """A guess from the source of a place that costs: what it may be, and what would test it.

    Attributes
    ----------
    place : Place
        In which it stands.
    line : int
        Of the place's file, from 1 on.
    kind : str
        Among `HINTS`.
    said, advice : str
        What stands there; what one would try.
    seconds : float
        A trial at its lines, with what is called there.
    """

    place: Place
    line: int
    kind: str
    said: str
    advice: str
    seconds: float = math.nan
