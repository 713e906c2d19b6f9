"""The kind of workload that is a Python callable: its keys."""

from __future__ import annotations

import ast
import json
import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.kinds import WorkloadKind
from bystander.design.readers.study_keys import CALLABLE_KEYS
from bystander.design.readers.values import shown
from bystander.design.studies.arms import Arm
from bystander.design.studies.words import Start
from bystander.design.studies.workloads import TimedCallable, What, Workload
from bystander.errors import UsageError

__all__ = ["CALLABLE_KIND", "quick_callable"]

_PATH = re.compile(r"[A-Za-z_]\w*(\.[A-Za-z_]\w*)*:[A-Za-z_]\w*(\.[A-Za-z_]\w*)*")


def read_callable(reader: KeyReader, table: Mapping[str, Any], path: str) -> TimedCallable | None:
    """Return the callable of a workload's table, None where it has none."""
    if "call" not in table:
        for key in CALLABLE_KEYS:
            if key in table:
                reader.wrong(f"{path}.{key}", 'it goes with call = "module:name", which is not there')
        return None
    for key in ("command", "shell", "ready", "end"):
        if key in table:
            reader.wrong(f"{path}.{key}", "it does not go with call; keep the one that is meant")
    values = _values(reader, table.get("given"), path)
    if values and table.get("fresh") is True:
        reader.wrong(f"{path}.fresh", 'it needs given = "module:name", which makes arguments anew')
    call = _path(reader, table, "call", path)
    given = "" if values or "given" not in table else _path(reader, table, "given", path)
    fresh, python, sample_s, samples, garbage = (
        reader.value(table, CALLABLE_KEYS[name], path) for name in ("fresh", "python", "sample", "samples", "garbage")
    )
    return TimedCallable(call, given, values, fresh, python, sample_s, samples, garbage=garbage)


def _path(reader: KeyReader, table: Mapping[str, Any], key: str, path: str) -> str:
    value = table[key]
    if isinstance(value, str) and _PATH.fullmatch(value):
        return value
    reader.wrong(f"{path}.{key}", f'{shown(value)} names no callable; write for example "tidebook.tides:level"')
    return ""


def _values(reader: KeyReader, given: Any, path: str) -> str:
    """Return arguments that stand in the study as JSON, "" where there are none."""
    if not isinstance(given, list | dict):
        return ""
    try:
        return json.dumps(given, allow_nan=False)
    except (TypeError, ValueError):
        reader.wrong(f"{path}.given", "dates and nan cannot be passed on; name a function that makes them")
        return ""


def quick_callable(call: str, given: str | None, make_input: str | None = None) -> TimedCallable:
    """Return a callable that was named on the command line.

    Parameters
    ----------
    given : str or None
        Its arguments as a call of Python has them, or module:function which makes them.
    make_input : str, optional
        What makes them, as module:function.

    Raises
    ------
    UsageError
        When either cannot be read.
    """
    if given is not None and make_input is not None:
        raise UsageError("--given and --make-input are both given; keep the one that is meant")
    if not _PATH.fullmatch(call):
        raise UsageError(f'--call: "{call}" names no callable; write for example tidebook.tides:level')
    if make_input is not None and not _PATH.fullmatch(make_input):
        raise UsageError(f'--make-input: "{make_input}" names no function; write for example tidebook.tides:example')
    if given is None or _PATH.fullmatch(given):
        return TimedCallable(call, make_input or given or "")
    wrong = f"--given: {given!r} is no list of arguments; write for example --given \"port='north', days=3\""
    try:
        made = ast.parse(f"f({given})", mode="eval").body
        if not isinstance(made, ast.Call):
            raise UsageError(wrong)
        words = [ast.literal_eval(one) for one in made.args]
        named = {one.arg or "**": ast.literal_eval(one.value) for one in made.keywords}
    except (SyntaxError, ValueError, TypeError, RecursionError, MemoryError):
        raise UsageError(wrong) from None
    try:
        values = json.dumps(words or named, allow_nan=False)
    except (ValueError, TypeError, RecursionError, MemoryError):  # bytes, sets, complex numbers, infinities
        raise UsageError(
            f"--given: {given!r} holds what JSON cannot, and arguments are passed on as JSON; let a function make "
            "them: --make-input module:function, which returns a tuple or a dict of them"
        ) from None
    if words and named:
        raise UsageError("--given: name all arguments or none of them")
    return TimedCallable(call, values=values if words or named else "")


def _check(reader: KeyReader, path: str, workload: Workload, arms: tuple[Arm, ...]) -> None:
    """Check that no arm replaces a callable by a command."""
    for arm in arms:
        if workload.base in arm.command or "" in arm.command:
            reader.wrong(f"arms.{arm.name}.command", f"it replaces {path}.call by a command; keep one of them")


def _with_inputs(reader: KeyReader, path: str, timed: What, inputs: Mapping[str, Any]) -> What:
    """Return a callable whose named arguments, or those of what makes them, are the values of inputs too."""
    assert isinstance(timed, TimedCallable)
    if not inputs:
        return timed
    values = json.loads(timed.values or "{}")
    if not isinstance(values, dict):
        reader.wrong(f"{path}.given", 'inputs are named arguments; write given as a table, such as { port = "north" }')
        return timed
    for name in inputs:
        if name in values:
            reader.wrong(f"{path}.inputs.{name}", "given has an argument of that name; keep one of them")
    try:
        return replace(timed, values=json.dumps({**values, **inputs}, allow_nan=False))
    except ValueError:
        reader.wrong(f"{path}.inputs", "nan and inf cannot be passed on")
        return timed


def _digested(timed: TimedCallable) -> dict[str, Any]:
    """Return what makes a callable another one; how its samples are taken does not."""
    said = {name: getattr(timed, name) for name in ("call", "given", "values", "fresh", "garbage")}
    return {"template": "", "shell": False, "timed": said}


CALLABLE_KIND = WorkloadKind(
    type=TimedCallable,
    key="call",
    keys=tuple(CALLABLE_KEYS),
    read=read_callable,
    check=_check,
    digested=_digested,
    starts=(Start.IN_PROCESS,),
    answers=("result",),
    floored=False,
    with_inputs=_with_inputs,
    page="callables.md",
)
