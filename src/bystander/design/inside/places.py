"""Where the time of a program went, place by place."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from bystander.design.inside.surprises import Expectation, Hint
from bystander.design.inside.watched import PYTHON, Place

__all__ = [
    "BUILT_IN",
    "GROUPS",
    "HARNESS",
    "IMPORTS",
    "LIBRARY",
    "ORDERS_OF_PLACES",
    "START",
    "VIEWS",
    "Caller", "PlaceRow",
    "PlaceTable",
    "TaskRow",
    "place_label",
    "short_file",
]  # fmt: skip

VIEWS = ("elapsed", "processor", "waiting")
ORDERS_OF_PLACES = ("whole", "alone", "calls", "per-call")
BUILT_IN = "built-in"
IMPORTS, HARNESS, START = "imports", "harness", "interpreter"
GROUPS = {IMPORTS: "imports", HARNESS: "our harness", START: "interpreter start and end"}


class Caller(NamedTuple):
    """Who calls a place: how often in one trial, and how often in one of its own calls that came from outside."""

    place: Place
    calls: int
    each: float


@dataclass(frozen=True)
class PlaceRow:
    """One place.

    Attributes
    ----------
    place : Place
    whole_s, alone_s : float
        Seconds a trial with what it calls and without; recursion counts once. NaN for what has calls only.
    whole_readings : int
        On how many readings `whole_s` rests, over all trials.
    calls, inner : int or None
        Calls a trial; those of them that came while it was running already. None where calls were not counted.
    resumed : int
        How often it was gone on with, as generators and coroutines are.
    repeats : bool
        Whether two counting trials gave the same calls.
    callers : tuple of Caller
        Who calls it, most often first; the first few.
    waits : mapping
        What `alone_s` waited for, in seconds a trial.
    depth : int
        How far inside it is found, at least: of places of one time the outer one comes first.
    fate : str
        What somebody judged of it; "" for nothing.
    settled : bool
        Whether that holds, so that it need not be on top.
    """

    place: Place
    whole_s: float
    alone_s: float
    whole_readings: int = 0
    calls: int | None = None
    inner: int = 0
    resumed: int = 0
    repeats: bool = True
    callers: tuple[Caller, ...] = ()
    waits: Mapping[str, float] = field(default_factory=dict)
    depth: int = 0
    fate: str = ""
    settled: bool = False

    @property
    def per_call_s(self) -> float | None:
        """Seconds of the whole for each call that is no recursion; None where it has no such."""
        outer = (self.calls or 0) - self.inner
        return self.whole_s / outer if outer > 0 and self.whole_s == self.whole_s else None

    @property
    def label(self) -> str:
        """The place's name for people."""
        return place_label(self.place)


@dataclass(frozen=True)
class TaskRow:
    """Threads or processes of one name: how many, and their seconds a trial on a processor and waiting."""

    name: str
    count: float
    processor_s: float
    waiting_s: float


@dataclass(frozen=True)
class PlaceTable:
    """All places of one state of a workload.

    Attributes
    ----------
    workload, arm : str
    run : str
        The inspection's name.
    view : str
        One of `VIEWS`: the main thread's time, followed into what it waits for; CPU time of all threads and processes;
        or their waits.
    trials, readings : int
        Watched trials, and readings of all of them.
    elapsed_s : float
        From beginning to end of a watched trial; the mean.
    processor_s, waiting_s : float
        Its parts, in the view of elapsed time.
    cpu_s : float
        Of all threads and processes, a trial.
    waits : mapping
        What the view's waits were for, in seconds a trial.
    rows, groups : tuple of PlaceRow
        Places in order, and at the end what is taken together.
    tasks : tuple of TaskRow
        Threads and processes by name, those that ran longest first.
    calls : int or None
        Of functions of Python and built-ins, a trial.
    repeats : bool or None
        Whether two counting trials gave the same calls; None where there were not two.
    root : str
        The arm's folder: files in it are shown from there.
    cost : float or None
        Watched over unwatched time of a trial; None where nobody knows.
    sentences : tuple of str
        What the counts say by themselves.
    about : tuple of str
        How it was watched: what that cost, and what was not seen.
    expected : tuple of Expectation
        What the study expected of places.
    hints : tuple of Hint
        Guesses from the source.
    """

    workload: str
    arm: str
    run: str
    view: str
    trials: int
    readings: int
    elapsed_s: float
    processor_s: float
    waiting_s: float
    cpu_s: float
    waits: Mapping[str, float]
    rows: tuple[PlaceRow, ...]
    groups: tuple[PlaceRow, ...]
    tasks: tuple[TaskRow, ...] = ()
    calls: int | None = None
    repeats: bool | None = None
    root: str = ""
    cost: float | None = None
    sentences: tuple[str, ...] = ()
    about: tuple[str, ...] = ()
    expected: tuple[Expectation, ...] = ()
    hints: tuple[Hint, ...] = ()


# Files of packages and of the standard library.
LIBRARY = re.compile(r"/(?:site|dist)-packages/|/lib/python\d\.\d+/|^<")


def place_label(place: Place) -> str:
    """Return a place's name for people: the module's file, and the function in it."""
    if place.kind == BUILT_IN:
        return place.name
    if place.kind != PYTHON:
        return GROUPS.get(place.kind) or f"{place.kind} {place.name}"
    stem = place.file.rpartition("/")[2].removesuffix(".py")
    if stem.startswith("<frozen "):
        stem = stem.removeprefix("<frozen ").removesuffix(">")
    if stem in ("__init__", "__main__"):
        folder = place.file.rpartition("/")[0].rpartition("/")[2]
        stem = folder if stem == "__init__" else f"{folder}.__main__"
    name = place.name.replace(".<locals>.", ".")
    return stem if name == "<module>" else f"{stem}.{name}"


def short_file(file: str, root: str) -> str:
    """Return a file for people: from the arm's folder, the folder of packages or the standard library on."""
    if root and file.startswith(root.rstrip("/") + "/"):
        return file[len(root.rstrip("/")) + 1 :]
    for mark in ("/site-packages/", "/dist-packages/"):
        if mark in file:
            return file.rpartition(mark)[2]
    library = re.search(r"/lib/(python\d\.\d+/.*)", file)
    return library[1] if library else file
