"""What is asked of a chain, of what goes on from one, and of a search for a commit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

__all__ = ["AskedBisect", "AskedChain", "GoOn"]


@dataclass(frozen=True)
class AskedChain:
    """What is asked of a chain besides its states.

    Attributes
    ----------
    arm : str or None
        The arm of the study like which states are made, where its arms are not made alike.
    only : sequence of str
        Workloads.
    blocks, seed : int or None
        Instead of the study's.
    change : float or None
        The smallest gain that is asked for, as a share; by default that of the chain which is gone on with, else the
        margin.
    noise_of : str or None
        Take the noise from this record, and try no blocks.
    every : bool
        All commits of a range, rather than first parents only.
    placebo : bool
    refuse : bool
        End where the gain that is asked for would not be seen, by an estimate from few blocks, rather than warn.
    """

    arm: str | None = None
    only: Sequence[str] = ()
    blocks: int | None = None
    seed: int | None = None
    change: float | None = None
    noise_of: str | None = None
    every: bool = False
    placebo: bool = False
    refuse: bool = False


@dataclass(frozen=True)
class GoOn:
    """How a chain is gone on with; one of them.

    Attributes
    ----------
    add, again, pairs : bool
        One more link; kept gains once more; pieces that do not add up, in pairs.
    hunks : str or None
        The edit that is taken apart.
    by_file : bool
        Into files, rather than hunks.
    subject : str
        What is said of an edit that is added.
    """

    add: bool = False
    again: bool = False
    pairs: bool = False
    hunks: str | None = None
    by_file: bool = False
    subject: str = ""

    def __bool__(self) -> bool:
        """Whether anything is asked for."""
        return self.add or self.again or self.pairs or self.hunks is not None


@dataclass(frozen=True)
class AskedBisect:
    """What is asked of a search.

    Attributes
    ----------
    only : sequence of str
        Workloads.
    measure : str or None
        On which the ends differ; the study's by default.
    arm : str or None
        The arm of the study like which commits are made.
    blocks, seed : int or None
    every : bool
        All commits of the range, rather than first parents only.
    second : bool
        Whether a second step is searched for.
    """

    only: Sequence[str] = ()
    measure: str | None = None
    arm: str | None = None
    blocks: int | None = None
    seed: int | None = None
    every: bool = False
    second: bool = True
