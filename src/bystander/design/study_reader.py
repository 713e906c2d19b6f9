"""From the text of a study file to a `Study`, or to a list of everything that is wrong with it."""

from __future__ import annotations

import itertools
import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from difflib import get_close_matches
from typing import Any, Protocol

from bystander.design.answer_reader import read_answer
from bystander.design.callable_reader import CALLABLE_KEYS, check_callable, read_callable
from bystander.design.gate import GATE_WORDS, Gate
from bystander.design.key_reader import KeyReader, shown
from bystander.design.measures import MEASURES, is_told
from bystander.design.names import workload_name
from bystander.design.placeholders import filled_words, placeholder_names
from bystander.design.start_reader import check_floors, read_start
from bystander.design.study import (
    DEFAULT_BLOCKS,
    DEFAULT_LIMIT_S,
    DEFAULT_MARGIN,
    DEFAULT_OUTPUT_BYTES,
    DEFAULT_RISK,
    ONE_ARM_STUDY_BLOCKS,
    STOPPINGS,
    VARIED,
    Arm,
    Study,
    Workload,
    with_placebo,
)
from bystander.errors import StudyError, UnitError
from bystander.units import parse_duration, parse_size

__all__ = ["ARM_KEYS", "GATE_KEYS", "STUDY_KEYS", "WORKLOAD_KEYS", "Surroundings", "read_study"]

STUDY_KEYS = (
    "name",
    "margin",
    "risk",
    "blocks",
    "stopping",
    "measure",
    "seed",
    "placebo",
    "keep_environment",
    "vary",
    "affinity",
    "niceness",
    "address_space",
    "shared_files",
    "written_files",
    "gate",
    "arms",
    "workloads",
)
GATE_KEYS = ("stop", "measures")
ARM_KEYS = ("folder", "revision", "environment", "settings", "build", "command", "weigh")
WORKLOAD_KEYS = (
    "command",
    "shell",
    "settings",
    "inputs",
    "limit",
    "output",
    "memory",
    "before_all",
    "before_each",
    "after_each",
    "answer",
    "weight",
    "spans",
    "start",
    "files",
    "floor",
    *CALLABLE_KEYS,
)
_SETTING = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_LONGEST_LIMIT_S = 3.6e6


class Surroundings(Protocol):
    """What the reader must ask of the place where the study lies."""

    def has_folder(self, path: str) -> bool:
        """Whether there is such a folder, relative to the study."""

    def revision_problem(self, revision: str) -> str | None:
        """Why a revision cannot be checked out: one clause, or None."""


def read_study(text: str, file: str, surroundings: Surroundings) -> Study:
    """Return the study that a TOML text describes.

    Parameters
    ----------
    file : str
        The name by which messages call it.

    Raises
    ------
    StudyError
        With every problem of the file, one sentence each.
    """
    try:
        top = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise StudyError([f"{file}: {_toml_problem(str(error))}"]) from None
    reader = KeyReader(file)
    reader.keys(top, STUDY_KEYS, "")
    arms = _arms(reader, top.get("arms"), surroundings)
    workloads = _workloads(reader, top.get("workloads"), arms)
    if arms and arms[0].weigh:
        reader.wrong(f"arms.{arms[0].name}.weigh", "the first arm is the reference; nothing is left out of it")
    measure = reader.text(top, "measure", "") or "elapsed"
    _check_measure(reader, measure, "measure")
    study = Study(
        name=reader.text(top, "name", "") or "unnamed study",
        arms=arms,
        workloads=workloads,
        margin=reader.share(top, "margin", DEFAULT_MARGIN, 1.0),
        risk=reader.share(top, "risk", DEFAULT_RISK, 0.5),
        blocks=reader.whole(top, "blocks", None, 1, 100_000) or _usual_blocks(arms),
        measure=measure,
        seed=reader.whole(top, "seed", None, 0, 2**63 - 1),
        keep_environment=reader.texts(top.get("keep_environment"), "keep_environment"),
        vary=_vary(reader, top, arms),
        affinity=_affinity(reader, top.get("affinity")),
        niceness=reader.whole(top, "niceness", 0, -20, 19) or 0,
        fixed_addresses=_fixed_addresses(reader, top.get("address_space")),
        stopping=reader.choice(top, "stopping", STOPPINGS),
        gate=_gate(reader, top.get("gate")),
        shared_files=reader.patterns(top.get("shared_files"), "shared_files"),
        written_files=reader.patterns(top.get("written_files"), "written_files"),
    )
    placebo = reader.flag(top, "placebo")
    if reader.problems:
        raise StudyError(reader.problems)
    return with_placebo(study) if placebo else study


def _check_measure(reader: KeyReader, measure: str, path: str) -> None:
    known = [m.name for m in MEASURES.values() if m.better]
    if measure not in known and not is_told(measure):
        near = get_close_matches(measure, known, 1, 0.5) or known[:1]
        reader.wrong(path, f'there is no measure "{measure}"; did you mean "{near[0]}"?')


def _gate(reader: KeyReader, value: Any) -> Gate:
    """Return what the study's gate looks for."""
    if value is None:
        return Gate()
    table = reader.table(value, "gate")
    reader.keys(table, GATE_KEYS, "gate")
    words, measures = (tuple(dict.fromkeys(reader.texts(table.get(key), f"gate.{key}"))) for key in GATE_KEYS)
    for word in words:
        if word not in GATE_WORDS:
            near = get_close_matches(word, GATE_WORDS, 1, 0.5)
            hint = f'did you mean "{near[0]}"?' if near else f"choose among {', '.join(GATE_WORDS)}"
            reader.wrong("gate.stop", f'"{word}" is nothing to look for; {hint}')
    for measure in measures:
        _check_measure(reader, measure, "gate.measures")
    return Gate(tuple(word for word in words if word in GATE_WORDS), measures)


def _usual_blocks(arms: Sequence[Arm]) -> int:
    return DEFAULT_BLOCKS if len(arms) > 1 else ONE_ARM_STUDY_BLOCKS


def _vary(reader: KeyReader, top: Mapping[str, Any], arms: tuple[Arm, ...]) -> tuple[str, ...]:
    names = reader.texts(top.get("vary"), "vary")
    for name in names:
        if name not in VARIED:
            near = get_close_matches(name, VARIED, 1, 0.4)
            hint = f'did you mean "{near[0]}"?' if near else "known are " + ", ".join(VARIED)
            reader.wrong("vary", f"{shown(name)} cannot be varied; {hint}")
    for arm in arms:
        if "hash seed" in names and "PYTHONHASHSEED" in arm.environment:
            reader.wrong("vary", f'"hash seed" is varied and arm {arm.name} fixes PYTHONHASHSEED; keep one of them')
        if "folder depth" in names and arm.folder != ".":
            reader.wrong("vary", f'"folder depth" needs arms laid out apart, and arm {arm.name} is used where it lies')
    return tuple(dict.fromkeys(name for name in names if name in VARIED))


def _affinity(reader: KeyReader, value: Any) -> tuple[int, ...]:
    if value is None:
        return ()
    if isinstance(value, list) and value and all(type(cpu) is int and 0 <= cpu < 4096 for cpu in value):
        return tuple(sorted(set(value)))
    reader.wrong("affinity", f"{shown(value)} is no list of processors; write for example [0, 1]")
    return ()


def _fixed_addresses(reader: KeyReader, value: Any) -> bool:
    if value not in (None, "fixed", "as it is"):
        reader.wrong("address_space", f'{shown(value)} is no layout; write "fixed" or "as it is"')
    return bool(value == "fixed")


def _toml_problem(message: str) -> str:
    """Turn a parser's message into our sentence; a name given twice is the commonest slip."""
    if ("declare" in message and "twice" in message) or "overwrite" in message or "mutate" in message:
        return f"a name or key stands twice; each arm, workload and key may be given once ({message})"
    return f"it is not valid TOML: {message}"


def _arms(reader: KeyReader, value: Any, surroundings: Surroundings) -> tuple[Arm, ...]:
    if not value:
        reader.wrong("arms", 'no arm is given; write for example [arms.before] with revision = "v1"')
        return ()
    return tuple(
        _arm(reader, name, reader.table(table, f"arms.{name}"), surroundings)
        for name, table in reader.table(value, "arms").items()
    )


def _arm(reader: KeyReader, name: str, table: dict[str, Any], surroundings: Surroundings) -> Arm:
    path = f"arms.{name}"
    reader.name(name, path)
    reader.keys(table, ARM_KEYS, path)
    folder, revision = reader.text(table, "folder", path), reader.text(table, "revision", path)
    if folder and revision:
        reader.wrong(path, "folder and revision are both given; keep the one that is meant")
    elif folder and not surroundings.has_folder(folder):
        reader.wrong(f"{path}.folder", f'there is no folder "{folder}" beside the study')
    elif revision and (problem := surroundings.revision_problem(revision)):
        reader.wrong(f"{path}.revision", problem)
    command = table.get("command")
    commands = {"": command} if isinstance(command, str) else reader.pairs(command, f"{path}.command")
    return Arm(
        name=name,
        folder=folder or ".",
        revision=revision,
        environment=reader.pairs(table.get("environment"), f"{path}.environment"),
        settings=reader.pairs(table.get("settings"), f"{path}.settings", _SETTING),
        build=reader.texts(table.get("build"), f"{path}.build"),
        command=commands,
        weigh=reader.text(table, "weigh", path) or "",
    )


def _workloads(reader: KeyReader, value: Any, arms: tuple[Arm, ...]) -> tuple[Workload, ...]:
    if not value:
        reader.wrong("workloads", 'no workload is given; write for example [workloads.year] with command = "..."')
        return ()
    found: list[Workload] = []
    for name, table in reader.table(value, "workloads").items():
        found += _expanded(reader, name, reader.table(table, f"workloads.{name}"), arms)
    check_floors(reader, found)
    bases = {workload.base for workload in found}
    for arm in arms:
        for base in arm.command:
            if base and base not in bases:
                reader.wrong(f"arms.{arm.name}.command.{base}", f'there is no workload "{base}"')
        for step in arm.build:
            _check_template(reader, f"arms.{arm.name}.build", step, arm.settings)
    return tuple(found)


def _expanded(reader: KeyReader, name: str, table: dict[str, Any], arms: tuple[Arm, ...]) -> list[Workload]:
    """Return one workload for each combination of input values."""
    path = f"workloads.{name}"
    reader.name(name, path)
    reader.keys(table, WORKLOAD_KEYS, path)
    command = reader.text(table, "command", path)
    timed = read_callable(reader, table, path)
    if command is None and timed is None and "command" not in table:
        reader.wrong(path, 'no command is given; write for example command = "python -m tidebook version"')
    inputs = _inputs(reader, table.get("inputs"), f"{path}.inputs")
    answer, answer_rule = read_answer(reader, table, path, timed is not None)
    plain = Workload(
        name=name,
        base=name,
        command=command or "",
        shell=reader.flag(table, "shell", path),
        settings=reader.pairs(table.get("settings"), f"{path}.settings", _SETTING),
        limit_s=_limit(reader, table, path),
        answer=answer,
        answer_rule=answer_rule,
        timed=timed,
        weight=_weight(reader, table, path),
        output_bytes=_size(reader, table, "output", path) or DEFAULT_OUTPUT_BYTES,
        memory_bytes=_size(reader, table, "memory", path),
        before_all=reader.text(table, "before_all", path),
        before_each=reader.text(table, "before_each", path),
        after_each=reader.text(table, "after_each", path),
        spans=reader.text(table, "spans", path) or "",
        start=read_start(reader, table, path, timed is not None),
        files=reader.texts(table.get("files"), f"{path}.files"),
        floor=reader.text(table, "floor", path) or "",
    )
    workloads = []
    for chosen in itertools.product(*inputs.values()):
        values = dict(zip(inputs, chosen, strict=True))
        workloads.append(replace(plain, name=workload_name(name, values), inputs=values))
    if command:
        _check_commands(reader, path, workloads[0], arms)
    elif timed:
        check_callable(reader, path, workloads[0], arms)
    return workloads


def _inputs(reader: KeyReader, value: Any, path: str) -> dict[str, tuple[str, ...]]:
    found: dict[str, tuple[str, ...]] = {}
    for key, items in reader.table(value, path).items() if value is not None else ():
        right = isinstance(items, list) and all(
            isinstance(item, str | int | float) and not isinstance(item, bool) for item in items
        )
        if not _SETTING.fullmatch(key):
            reader.wrong(f"{path}.{key}", "an input's name is made of letters, digits and _")
        elif not right or not items:
            reader.wrong(f"{path}.{key}", f'{shown(items)} is no list of values; write for example ["north", "south"]')
        elif len({str(item) for item in items}) < len(items):
            twice = next(str(item) for item in items if [str(i) for i in items].count(str(item)) > 1)
            reader.wrong(
                f"{path}.{key}",
                f'the value "{twice}" stands twice; each would be a workload of the same name',
            )
        else:
            found[key] = tuple(str(item) for item in items)
    return found


def _limit(reader: KeyReader, table: Mapping[str, Any], path: str) -> float:
    if "limit" not in table:
        return DEFAULT_LIMIT_S
    try:
        limit = parse_duration(table["limit"])
    except UnitError as error:
        reader.wrong(f"{path}.limit", str(error))
        return DEFAULT_LIMIT_S
    if not 0 < limit <= _LONGEST_LIMIT_S:
        reader.wrong(f"{path}.limit", f"{shown(table['limit'])} is out of range; it must be above 0 s, at most 1000 h")
        return DEFAULT_LIMIT_S
    return limit


def _size(reader: KeyReader, table: Mapping[str, Any], key: str, path: str) -> int | None:
    """Return a size in bytes, None where it is not given."""
    if key not in table:
        return None
    try:
        size = parse_size(table[key])
    except UnitError as error:
        reader.wrong(f"{path}.{key}", str(error))
        return None
    if not 0 < size < 2**50:
        reader.wrong(f"{path}.{key}", f"{shown(table[key])} is out of range; it must be above 0 B")
    return size


def _weight(reader: KeyReader, table: Mapping[str, Any], path: str) -> float | None:
    weight = table.get("weight")
    if weight is None:
        return None
    if isinstance(weight, int | float) and not isinstance(weight, bool) and 0 <= weight < 1e100:
        return float(weight)
    reader.wrong(f"{path}.weight", f"{shown(weight)} is no weight; write a number of 0 or more")
    return None


def _check_commands(reader: KeyReader, path: str, workload: Workload, arms: tuple[Arm, ...]) -> None:
    """Check the command and the steps under each arm; what is wrong alike in all of them is told once."""
    shared = tuple(arm for arm in arms if arm.command_for(workload) == workload.command)
    templates = [(f"{path}.command", workload.command, shared)]
    templates += [(f"arms.{arm.name}.command", arm.command_for(workload), (arm,)) for arm in arms if arm not in shared]
    templates += [(f"{path}.{name}", step, arms) for name, step in workload.steps.items()]
    used: set[str] = set()
    for where, template, users in templates:
        used |= set(placeholder_names(template))
        values = {name: value for arm in users for name, value in workload.values(arm).items()}
        if users:
            _check_template(reader, where, template, values)
        for arm in users:
            for name in placeholder_names(template):
                if name in values and name not in workload.values(arm):
                    reader.wrong(where, f"{{{name}}} is no setting under arm {arm.name}; give it one there too")
    for name in workload.inputs:
        if arms and name not in used:
            reader.wrong(f"{path}.inputs.{name}", f"the command does not use it; write {{{name}}} where it belongs")


def _check_template(reader: KeyReader, path: str, template: str, values: Mapping[str, str]) -> None:
    try:
        words = filled_words(template, dict.fromkeys(placeholder_names(template), ""))
    except ValueError:
        reader.wrong(path, f"{shown(template)} has a quote that is never closed")
        return
    if not words:
        reader.wrong(path, "the command is empty")
    for name in placeholder_names(template):
        if name not in values:
            known = ", ".join(values) or "none"
            near = get_close_matches(name, list(values), 1, 0.5)
            hint = f"did you mean {{{near[0]}}}?" if near else "double the braces if they are meant as such"
            reader.wrong(path, f"{{{name}}} is no setting or input (known: {known}); {hint}")
