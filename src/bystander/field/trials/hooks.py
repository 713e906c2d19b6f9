"""Hooks in a Python program: which variables bring them in, and what they left when it ended."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

from bystander.design import BUILT_IN, PYTHON, CallEdge, Counts, Place
from bystander.field.launching.leavings import LeftError, read_left
from bystander.field.trials.commands import ReadyCommand
from bystander.units import counted

__all__ = ["COUNTING", "hooked", "read_counts"]

COUNTING = "counting"
_FOLDER = Path(__file__).parents[1] / "inside" / "hooks"
_VERSION = 1
_MOST_BYTES = 256 * 2**20  # of what one process tells
_MOST_PROCESSES = 10_000
_MOST_SAID = 1000  # bytes of why a hook failed
_MOST_CALLS = 2**53


def hooked(command: ReadyCommand, hooks: Sequence[str], into: Path) -> ReadyCommand:
    """Return a command whose Python processes load these hooks, which write into a folder."""
    path = command.environment.get("PYTHONPATH", "")
    environment = {
        **command.environment,
        "PYTHONPATH": f"{_FOLDER}:{path}" if path else str(_FOLDER),
        "BYSTANDER_HOOKS": " ".join(hooks),
        "BYSTANDER_HOOKS_TO": str(into),
    }
    # What does not repeat is no evidence: where the study says nothing of it, sets are walked in one order.
    environment.setdefault("PYTHONHASHSEED", "0")
    return replace(command, environment=environment)


def read_counts(folder: Path) -> Counts:
    """Return the calls of all processes that left them; what is damaged is told, never raised."""
    places: dict[Place, int] = {}
    edges: dict[tuple[int, int, int], list[int]] = {}
    problems: list[str] = []
    processes = 0
    begun = sorted(folder.glob("*.begun"))[:_MOST_PROCESSES]
    for file in begun:
        try:
            document = json.loads(_regular(file.with_suffix(".json"), _MOST_BYTES))
            told = [_text(one) for one in document["problems"]]
            for caller, line, callee, sums in list(_edges(document, places)):  # all of them, or none
                held = edges.setdefault((caller, line, callee), [0, 0, 0])
                for k, number in enumerate(sums):
                    held[k] += number
            problems += told
            processes += 1
        except (LeftError, ValueError, KeyError, TypeError, IndexError, RecursionError):
            continue
    if silent := len(begun) - processes:
        problems.append(f"{counted(silent, 'process', 'processes')} ended without telling what was called")
    for one in sorted(folder.glob("*.failed"))[:_MOST_PROCESSES]:
        with suppress(LeftError, ValueError):
            problems.append(_regular(one, _MOST_SAID))
    made = tuple(CallEdge(*key, *sums) for key, sums in edges.items())
    return Counts(tuple(places), made, processes, tuple(dict.fromkeys(problems)))


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
