"""What a search for the commit of a step asks, and what it found."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from bystander.design import EditSize, RecordHead

__all__ = ["Answer", "Ask", "Bisected", "Commit", "Ends", "Kind", "Outcome", "Searched", "Stage", "Step"]

Floats = NDArray[np.float64]


class Stage(StrEnum):
    """What blocks of a search are for; the purposes of its runs."""

    ENDS = "ends"
    SEARCHED = "searched"
    VERIFIED = "verified"
    REMAINDER = "remainder"


class Kind(StrEnum):
    """What is told apart."""

    TIMED = "timed"  # by readings that scatter
    EXACT = "exact"  # by readings that repeat exactly: one trial a commit is enough
    FAILS = "fails"  # by trials that fail


class Outcome(StrEnum):
    """How a search ended."""

    FOUND = "found"
    NO_CHANGE = "no-change"  # the ends are not shown to differ
    GOOD_FAILS = "good-fails"  # no trial of the good end ends well, so that nothing can be held against it
    CANNOT_TELL = "cannot-tell"  # some commits remain
    NO_ANSWER = "no-answer"  # what was found did not hold in fresh blocks, three times
    UNFINISHED = "unfinished"


@dataclass(frozen=True)
class Ask:
    """Blocks that a search needs.

    Attributes
    ----------
    stage : Stage
    part : int
        Which run of that stage, from 0.
    commits : tuple of int
        Positions: each block has one trial of each.
    blocks : int
        So many are needed, those that were asked for before included.
    in_question : int
        How many commits are still in question.
    first : int
        The number of the first of them in its run.
    """

    stage: Stage
    part: int
    commits: tuple[int, ...]
    blocks: int
    in_question: int
    first: int = 0


@dataclass(frozen=True)
class Answer:
    """What came of it: readings as they are compared, and which trials failed; or a commit that cannot be tried.

    Attributes
    ----------
    values : ndarray, shape (blocks, commits)
        Logarithms of readings, or readings where not all are above zero; NaN where a trial failed.
    failed : ndarray of bool, of that shape
    broken : int or None
    """

    values: Floats | None = None
    failed: NDArray[np.bool_] | None = None
    broken: int | None = None


@dataclass(frozen=True)
class Ends:
    """A good and a bad end that are shown to differ.

    Attributes
    ----------
    effect : float
        Pseudo-median of their block differences, on the scale of the values; 0 for failures.
    p : float
        Over all looks.
    blocks : int
    """

    good: int
    bad: int
    kind: Kind
    effect: float
    differences: Floats
    p: float
    blocks: int


@dataclass(frozen=True)
class Step:
    """A commit that made a difference.

    Attributes
    ----------
    commits : tuple of int
        It, and those that could not be tried before it: the step is among them.
    parent : int
        The commit before the first of them, against which it was verified.
    effect, low, high : float
        In fresh blocks, on the scale of the values, with its interval; the level allows for the looks.
    p : float
        Of the verification, over its looks; NaN where readings repeat exactly.
    blocks : int
        That it took to verify.
    """

    commits: tuple[int, ...]
    parent: int
    kind: Kind
    effect: float
    low: float
    high: float
    p: float
    blocks: int


@dataclass(frozen=True)
class Bisected:
    """What a search found.

    Attributes
    ----------
    ends : Ends or None
        None where they are not shown to differ.
    tested_blocks : int
        Of the ends.
    steps : tuple of Step
        In the order of the commits.
    remaining : tuple of int
        Commits among which it cannot be told.
    blocks : int
        Of all stages.
    tried : tuple of int
        Commits that were built and tried.
    broken : tuple of int
        Commits that could not be.
    remainder : float or None
        What is left of the change of the ends beside the first step, where it was looked for, on the scale of values.
    remainder_p : float or None
    """

    outcome: Outcome
    ends: Ends | None = None
    tested_blocks: int = 0
    steps: tuple[Step, ...] = ()
    remaining: tuple[int, ...] = ()
    blocks: int = 0
    tried: tuple[int, ...] = ()
    broken: tuple[int, ...] = ()
    remainder: float | None = None
    remainder_p: float | None = None


@dataclass(frozen=True)
class Commit:
    """One commit of the line that is searched: its id, the short one, which names its arm, and its first line."""

    id: str
    short: str
    subject: str


@dataclass(frozen=True)
class Searched:
    """The searches of a record.

    Attributes
    ----------
    what : str
        What was asked for: "v1..v9".
    commits : tuple of Commit
        The line that was searched, the good end first.
    broken : mapping
        By short id: why a commit cannot be built.
    found : tuple of (int, Bisected)
        By position of the workload in the study.
    sizes, hunks : mapping
        By short id of a commit that was found: how large its edit is, and its hunks, a line each; where that is known.
    """

    head: RecordHead
    what: str
    commits: tuple[Commit, ...]
    broken: Mapping[str, str]
    found: tuple[tuple[int, Bisected], ...]
    sizes: Mapping[str, EditSize] = field(default_factory=dict)
    hunks: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
