"""How states are to be looked into, as somebody asks for it."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["Asked", "AskedClosely", "AskedGrowth", "AskedSlow"]


@dataclass(frozen=True)
class AskedClosely:
    """What is counted of which functions: a word for these, and whether calls are told apart by what they are given."""

    place: str
    arguments: bool


@dataclass(frozen=True)
class AskedGrowth:
    """By which input it grows, in how many blocks, and whether calls are counted; None leaves it to what is found."""

    name: str
    blocks: int | None = None
    counts: bool | None = None


@dataclass(frozen=True)
class AskedSlow:
    """Beyond which seconds a trial is slow, None for what lies apart; and in how many trials, None for enough."""

    slower_than_s: float | None = None
    trials: int | None = None


@dataclass(frozen=True)
class Asked:
    """How a state is to be looked into; None leaves it to what is found.

    Attributes
    ----------
    tick_s : float or None
        CPU time from tick to tick.
    counts : bool or None
        Whether calls are counted.
    by_hand : bool
        Somebody drives the program: one trial, without a limit.
    trials : int or None
        Watched trials; without a number, until there are readings enough.
    closely : AskedClosely or None
        A function that is looked at closely, and then nothing else.
    growth : AskedGrowth or None
        How it grows with an input, and then nothing else.
    slow : AskedSlow or None
        Slow trials are caught, and then nothing else.
    """

    tick_s: float | None = None
    counts: bool | None = None
    by_hand: bool = False
    trials: int | None = None
    closely: AskedClosely | None = None
    growth: AskedGrowth | None = None
    slow: AskedSlow | None = None
