"""Hooks in a Python program: which variables bring them in, and what they left when it ended."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from bystander.design import BUILT_IN, PYTHON, CallEdge, Closely, ClosePlace, Counts, Parameter, Place
from bystander.field.launching.leavings import LeftError, read_left
from bystander.field.trials.commands import ReadyCommand
from bystander.units import counted

__all__ = ["CLOSELY", "COUNTING", "CloseHook", "hooked", "read_closely", "read_counts"]

COUNTING, CLOSELY = "counting", "closely"
_FOLDER = Path(__file__).parents[1] / "inside" / "hooks"
_VERSION = 1
_MOST_BYTES = 256 * 2**20  # of what one process tells
_MOST_PROCESSES = 10_000
_MOST_SAID = 1000  # bytes of why a hook failed
_MOST_CALLS = 2**53
_MOST_NAMED = 5  # types of objects that are told apart by which they are


@dataclass(frozen=True)
class CloseHook:
    """Which functions are counted closely.

    Attributes
    ----------
    place : str
        What they are called: a label, a name, a file, `file:line`; * for any letters.
    root : str
        The folder from which files are named.
    arguments : bool
        Whether calls are told apart by what they are given.
    """

    place: str
    root: str
    arguments: bool

    @property
    def variables(self) -> Mapping[str, str]:
        """What tells the hook so."""
        return {
            "BYSTANDER_HOOKS_PLACE": self.place, "BYSTANDER_HOOKS_ROOT": self.root,
            "BYSTANDER_HOOKS_ARGUMENTS": str(int(self.arguments)),
        }  # fmt: skip


def hooked(
    command: ReadyCommand, hooks: Sequence[str], into: Path, variables: Mapping[str, str] | None = None
) -> ReadyCommand:
    """Return a command whose Python processes load these hooks, which write into a folder and read some variables."""
    path = command.environment.get("PYTHONPATH", "")
    environment = {
        **command.environment,
        "PYTHONPATH": f"{_FOLDER}:{path}" if path else str(_FOLDER),
        "BYSTANDER_HOOKS": " ".join(hooks),
        "BYSTANDER_HOOKS_TO": str(into),
        **(variables or {}),
    }
    # What does not repeat is no evidence: where the study says nothing of it, sets are walked in one order.
    environment.setdefault("PYTHONHASHSEED", "0")
    return replace(command, environment=environment)


def read_counts(folder: Path) -> Counts:
    """Return the calls of all processes that left them; what is damaged is told, never raised."""
    places: dict[Place, int] = {}
    edges: dict[tuple[int, int, int], list[int]] = {}

    def take(document: Mapping[str, Any]) -> None:
        for caller, line, callee, sums in list(_edges(document, places)):  # all of them, or none
            held = edges.setdefault((caller, line, callee), [0, 0, 0])
            for k, number in enumerate(sums):
                held[k] += number

    processes, problems = _each(folder, take, "what was called")
    made = tuple(CallEdge(*key, *sums) for key, sums in edges.items())
    return Counts(tuple(places), made, processes, problems)


def read_closely(folder: Path, arguments: bool) -> Closely:
    """Return what all processes told of the functions that were meant; what is damaged is told, never raised.

    Parameters
    ----------
    arguments : bool
        Whether calls were told apart by what they were given.
    """
    found: dict[tuple[str, str], _Merged] = {}

    def take(document: Mapping[str, Any]) -> None:
        if document["version"] != _VERSION:
            raise ValueError("its version is not known")
        for key, one in [_close(told) for told in document["places"]]:
            found.setdefault(key, _Merged()).add(one)

    processes, problems = _each(folder, take, "which lines ran")
    places = tuple(one.made(name, file, arguments) for (name, file), one in found.items())
    return Closely(places, processes, problems)


@dataclass
class _Merged:
    """One function over threads and processes."""

    line: int = 0
    calls: int = 0
    resumed: int = 0
    lines: Counter[int] = field(default_factory=Counter)
    distinct: Counter[str] = field(default_factory=Counter)
    more: bool = False
    parameters: dict[str, tuple[set[str], set[str], list[bool]]] = field(default_factory=dict)

    def add(self, other: _Merged) -> None:
        """Take in what another thread or process told."""
        self.line, self.more = self.line or other.line, self.more or other.more
        self.calls, self.resumed = self.calls + other.calls, self.resumed + other.resumed
        self.lines += other.lines
        self.distinct += other.distinct
        for name, (digests, objects, cut) in other.parameters.items():
            mine = self.parameters.setdefault(name, (set(), set(), []))
            mine[0].update(digests)
            mine[1].update(objects)
            mine[2].extend(cut)

    def made(self, name: str, file: str, arguments: bool) -> ClosePlace:
        """Return it as numbers only."""
        parameters = tuple(
            Parameter(one, len(digests), tuple(sorted(objects)[:_MOST_NAMED]), any(cut))
            for one, (digests, objects, cut) in self.parameters.items()
        )
        return ClosePlace(
            Place(PYTHON, name, file, self.line), self.calls, self.resumed, tuple(sorted(self.lines.items())),
            len(self.distinct) if arguments else None, max(self.distinct.values(), default=0), self.more, parameters,
        )  # fmt: skip


def _close(told: Mapping[str, Any]) -> tuple[tuple[str, str], _Merged]:
    """Return one function as one thread told it; raise ValueError for what is none."""
    parameters = {
        _text(name)[:1000]: ({str(one) for one in digests}, {_text(one)[:200] for one in objects}, [bool(cut)])
        for name, digests, objects, cut in told["parameters"]
    }
    lines = Counter({_number(line): _number(runs) for line, runs in told["lines"]})
    distinct = Counter({str(key): _number(calls) for key, calls in told["distinct"].items()})
    made = _Merged(
        _number(told["line"]), _number(told["calls"]), _number(told["resumed"]), lines, distinct, bool(told["more"]),
        parameters,
    )  # fmt: skip
    return (_text(told["name"])[:1000], _text(told["file"])), made


def _each(folder: Path, take: Callable[[Mapping[str, Any]], None], what: str) -> tuple[int, tuple[str, ...]]:
    """Give each process's document to `take`; return how many told one, and what is to be said of the others."""
    problems: list[str] = []
    processes = 0
    begun = sorted(folder.glob("*.begun"))[:_MOST_PROCESSES]
    for file in begun:
        try:
            document = json.loads(_regular(file.with_suffix(".json"), _MOST_BYTES))
            told = [_text(one) for one in document["problems"]]
            take(document)
            problems += told
            processes += 1
        except (LeftError, ValueError, KeyError, TypeError, IndexError, AttributeError, RecursionError):
            continue
    if silent := len(begun) - processes:
        problems.append(f"{counted(silent, 'process', 'processes')} ended without telling {what}")
    for one in sorted(folder.glob("*.failed"))[:_MOST_PROCESSES]:
        with suppress(LeftError, ValueError):
            problems.append(_regular(one, _MOST_SAID))
    return processes, tuple(dict.fromkeys(problems))


def _regular(path: Path, most: int) -> str:
    """Return a file's text; raise LeftError or ValueError where there is none, or something else."""
    data = read_left(path, most, "what a process tells")
    if data is None:
        raise ValueError("it is not there")
    return data.decode("utf-8")


def _text(value: object) -> str:
    """Return a text that can be written: names of files may hold bytes that are no letters."""
    return str(value).encode("utf-8", "replace").decode("utf-8")


def _number(value: object) -> int:
    """Return a count; raise ValueError for what is none."""
    if not isinstance(value, int) or not 0 <= value < _MOST_CALLS:
        raise ValueError("a count that is no number of calls")
    return value


def _edges(document: Mapping[str, Any], places: dict[Place, int]) -> Iterator[tuple[int, int, int, tuple[int, ...]]]:
    """Yield caller, line, callee and the three sums of each edge, by the numbers of places of all processes."""
    if document["version"] != _VERSION:
        raise ValueError("its version is not known")
    numbers = []
    for kind, name, file, line in document["places"]:
        if kind not in (PYTHON, BUILT_IN):
            raise ValueError("a place of no known kind")
        numbers.append(places.setdefault(Place(kind, _text(name)[:1000], _text(file), _number(line)), len(places)))
    for caller, line, callee, calls, inner, resumed in document["edges"]:
        if not -1 <= caller < len(numbers) or not 0 <= callee < len(numbers):
            raise ValueError("an edge between places that are not there")
        sums = (_number(calls), _number(inner), _number(resumed))
        yield numbers[caller] if caller >= 0 else -1, _number(line), numbers[callee], sums
