"""Two states of a workload held side by side, place by place: what changed where, and the account of the whole."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from bystander.design.inside.places import BUILT_IN
from bystander.design.inside.surprises import Expectation, Hint
from bystander.design.inside.watched import Place

__all__ = [
    "ACCOUNT",
    "EDITS",
    "ORDERS_OF_LEADS",
    "Account",
    "CalledBy",
    "Change",
    "Cost",
    "Edits",
    "Hunk",
    "Lead",
    "LineMap",
    "Match",
    "PlaceChange",
    "Standing",
]

EDITS, ACCOUNT = "edits", "account"  # kinds of evidence
ORDERS_OF_LEADS = ("change", "whole", "alone", "calls", "per-call")


class Standing(StrEnum):
    """How the code of a place stands between the arms."""

    EDITED = "edited"
    MOVED = "moved"  # the same body under another name, or in another file
    NEW = "new"
    GONE = "gone"
    CALLS_EDITED = "calls edited"
    UNTOUCHED = "untouched"
    UNKNOWN = ""  # no code of it could be read

    @property
    def is_edit(self) -> bool:
        """Whether the place itself differs between the arms."""
        return self in (Standing.EDITED, Standing.MOVED, Standing.NEW, Standing.GONE)


class Match(NamedTuple):
    """One place in both arms, as the code says: in the reference and in the candidate, None where it is in one only."""

    before: Place | None
    after: Place | None
    standing: Standing


class LineMap(NamedTuple):
    """Two files that differ: runs of lines that are alike, as (first before, first after, how many)."""

    before: str
    after: str
    blocks: tuple[tuple[int, int, int], ...]


class Hunk(NamedTuple):
    """How a function of the candidate was edited: lines of a unified difference."""

    place: Place
    lines: tuple[str, ...]


@dataclass(frozen=True)
class Edits:
    """What was edited between two arms, as far as trials came by it.

    Attributes
    ----------
    matches : tuple of Match
        Of functions that were met in either arm.
    lines : tuple of LineMap
        Of files that differ.
    subjects : tuple of str
        Of the commits between the arms, the newest first: digest and first line.
    packages : tuple of str
        Packages outside the arms that differ: "waves 1.0, then 1.1".
    hunks : tuple of Hunk
        Of functions that were edited, as far as their files could be read.
    """

    matches: tuple[Match, ...] = ()
    lines: tuple[LineMap, ...] = ()
    subjects: tuple[str, ...] = ()
    packages: tuple[str, ...] = ()
    hunks: tuple[Hunk, ...] = ()


class Change(NamedTuple):
    """Seconds a trial before and after, and their mean difference with its interval."""

    before_s: float
    after_s: float
    change_s: float
    low_s: float
    high_s: float

    @property
    def shown(self) -> bool:
        """Whether the interval does not hold 0."""
        return self.low_s > 0 or self.high_s < 0


NOTHING = Change(0.0, 0.0, 0.0, 0.0, 0.0)


class Cost(NamedTuple):
    """Watched over unwatched time with its interval; 0 and infinity where so few trials bound nothing."""

    ratio: float
    low: float
    high: float

    @property
    def nearest(self) -> float:
        """The ratio nearest to 1 that the interval holds."""
        return min(max(1.0, self.low), self.high)


class CalledBy(NamedTuple):
    """Who calls a place: how often in one of its own calls, before and after."""

    place: Place
    before: float
    after: float


@dataclass(frozen=True)
class PlaceChange:
    """One place in both arms.

    Attributes
    ----------
    place : Place
        As the candidate has it; as the reference has it where it is gone.
    whole, alone : Change
        With what it calls and without; intervals hold together for all places of the table.
    p_whole, p_alone : float
        Adjusted over the places; NaN where it was too small to be tested.
    calls_before, calls_after : int or None
        A trial; None where calls were not counted, or did not repeat.
    inner_before, inner_after : int
        Those of them that came while it was running already.
    depth : int
        How far inside it is found, at least.
    """

    place: Place
    standing: Standing
    whole: Change
    alone: Change
    p_whole: float = math.nan
    p_alone: float = math.nan
    calls_before: int | None = None
    calls_after: int | None = None
    inner_before: int = 0
    inner_after: int = 0
    depth: int = 0

    def per_call_s(self, after: bool) -> float | None:
        """Seconds of the whole for each call that is no recursion, in one arm; None where that is not known."""
        calls, inner = (self.calls_after, self.inner_after) if after else (self.calls_before, self.inner_before)
        outer = (calls or 0) - inner
        seconds = self.whole.after_s if after else self.whole.before_s
        return seconds / outer if outer > 0 else None


@dataclass(frozen=True)
class Lead:
    """What is evidence for the cause of a change.

    Attributes
    ----------
    place : Place
    standing : Standing
    seconds : Change
        Alone with what it calls outside the program; of a count, that of the place without a change that is shown.
    p : float
        Adjusted over the family; NaN for a count, which is exact.
    takes : tuple of Place
        Places whose change it takes, since it calls them more often and a call of them takes as long as before.
    moved_from : Place or None
        Where work came from that is done here now; `seconds` is then what remains of both.
    under : Place or None
        What lies around both.
    calls_before, calls_after : int or None
    called : tuple of CalledBy
        Of `takes`, or of the place itself: who calls it how often, where that changed.
    called_place : Place or None
        What is called so.
    items : mapping
        What the program tells of, a trial, by name: alike before and after.
    waiting_before_s, waiting_after_s : float
        Of the seconds.
    by_count : bool
        Whether it is a lead by its count alone.
    line : int
        Of the candidate's file, at which most of its change stands; 0 where that is not known.
    fate : str
        What somebody judged of it, as a sentence without its end; "" for nothing.
    settled : bool
        Whether that holds, so that it need not be on top.
    moved_on : bool
        Whether its code in the study's folder is no longer what was watched.
    surprise : str
        What it takes beside what was expected of it, where that is shown to be more; "" for nothing.
    by_surprise : bool
        Whether it is a lead by that alone: then its seconds explain nothing of the change.
    hunk : tuple of str
        How its function was edited, as lines of a unified difference; empty where it was not, or nobody knows.
    """

    place: Place
    standing: Standing
    seconds: Change
    p: float = math.nan
    takes: tuple[Place, ...] = ()
    moved_from: Place | None = None
    under: Place | None = None
    calls_before: int | None = None
    calls_after: int | None = None
    called: tuple[CalledBy, ...] = ()
    called_place: Place | None = None
    items: Mapping[str, float] = field(default_factory=dict)
    waiting_before_s: float = 0.0
    waiting_after_s: float = 0.0
    by_count: bool = False
    line: int = 0
    fate: str = ""
    settled: bool = False
    moved_on: bool = False
    surprise: str = ""
    by_surprise: bool = False
    hunk: tuple[str, ...] = ()

    @property
    def explains(self) -> bool:
        """Whether its seconds are a part of the account."""
        return not self.by_count and not self.by_surprise

    @property
    def timed(self) -> Change | None:
        """Its seconds; None for a built-in, whose seconds stand with the line that calls it."""
        return None if self.place.kind == BUILT_IN else self.seconds


@dataclass(frozen=True)
class Account:
    """From the whole before to the whole after.

    Attributes
    ----------
    workload, against, arm : str
        The workload, the reference and the candidate.
    run : str
        The inspection's name.
    view : str
        Whose time it is; see `VIEWS`.
    blocks : int
        In which both arms were watched to a good end.
    confidence : float
        Level of all intervals.
    whole, explained, rest : Change
        Of the inspected trials: what leads add or take, and what none explains; they sum to the whole.
    margin_s : float
        The margin, of the reference's whole.
    leads : tuple of Lead
        The largest change first, then counts.
    places : tuple of PlaceChange
    smaller : Change
        The places below half a percent of the whole, together.
    roots : tuple of str
        The folders of both arms.
    timed : str
        The verdict of the record, in words; "" where it has none.
    cost : tuple of (Cost or None)
        Of watching, in both arms.
    slowed_more : Cost or None
        How much more watching slowed the candidate than the reference; None where nobody knows.
    slowed : float or None
        The same where it is shown to lie beyond the margin: then
        its seconds were divided by the middle ratio of all places.
    repeats : bool or None
        Whether calls repeat in both arms; None where they were not counted twice.
    subjects, packages : tuple of str
        See `Edits`.
    about : tuple of str
        What limits it.
    part : tuple of str
        Which part of the trials it is of, and of how much; empty for the whole.
    expected : tuple of Expectation
        What the study expected of places, under both arms.
    hints : tuple of Hint
        Guesses from the source of the candidate.
    """

    workload: str
    against: str
    arm: str
    run: str
    view: str
    blocks: int
    confidence: float
    whole: Change
    explained: Change
    rest: Change
    margin_s: float
    leads: tuple[Lead, ...] = ()
    places: tuple[PlaceChange, ...] = ()
    smaller: Change = NOTHING
    roots: tuple[str, str] = ("", "")
    timed: str = ""
    cost: tuple[Cost | None, Cost | None] = (None, None)
    slowed_more: Cost | None = None
    slowed: float | None = None
    repeats: bool | None = None
    subjects: Sequence[str] = ()
    packages: Sequence[str] = ()
    about: Sequence[str] = ()
    part: tuple[str, ...] = ()
    expected: tuple[Expectation, ...] = ()
    hints: tuple[Hint, ...] = ()

    @property
    def explained_enough(self) -> bool:
        """Whether what no lead explains is shown to lie within the margin."""
        return -self.margin_s <= self.rest.low_s and self.rest.high_s <= self.margin_s
