"""From the text of a study file to a `Study`, or to a list of everything that is wrong with it."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from difflib import get_close_matches
from typing import Any, Protocol

from bystander.design.measures import MEASURES, is_told
from bystander.design.readers.answer_reader import read_answer
from bystander.design.readers.begin_reader import check_floors, read_ready, read_start
from bystander.design.readers.callable_reader import CALLABLE_KIND
from bystander.design.readers.chain_reader import STATE, read_states
from bystander.design.readers.command_reader import COMMAND_KIND, check_template
from bystander.design.readers.input_reader import as_texts, read_inputs
from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.kinds import WorkloadKind, kind_of, kinds, register_workload_kind
from bystander.design.readers.number_reader import read_numbers
from bystander.design.readers.study_keys import ARM_KEYS, COMMAND_KEYS, GATE_KEYS, LOAD_KEYS, SHARED_KEYS, STUDY_KEYS
from bystander.design.readers.values import is_text, shown
from bystander.design.studies.arms import Arm
from bystander.design.studies.ceilings import Ceiling, ceiling_of
from bystander.design.studies.gate import GATE_WORDS, Gate, gated_measure
from bystander.design.studies.names import workload_name
from bystander.design.studies.study import DEFAULT_BLOCKS, ONE_ARM_STUDY_BLOCKS, Study, with_placebo
from bystander.design.studies.words import Condition, StoppingRule
from bystander.design.studies.workloads import Command, Ready, ToldLimits, What, Workload
from bystander.errors import StudyError, UnitError
from bystander.units import parse_share

__all__ = ["StudyPlace", "read_study", "workload_keys"]

for _kind in (COMMAND_KIND, CALLABLE_KIND):
    register_workload_kind(_kind)

_LONGEST_SPAN = 40
_SETTING = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


class StudyPlace(Protocol):
    """What the reader must ask of the place where the study lies."""

    def has_folder(self, path: str) -> bool:
        """Whether there is such a folder, relative to the study."""

    def revision_problem(self, revision: str) -> str | None:
        """Why a revision cannot be checked out: one clause, or None."""


def workload_keys() -> tuple[str, ...]:
    """Return every key of a workload's table: those of commands, those of all kinds, and those of other kinds."""
    others = (key for kind in kinds().values() for key in kind.keys)
    return tuple(dict.fromkeys([*COMMAND_KEYS, *SHARED_KEYS, *others]))


def read_study(text: str, file: str, place: StudyPlace) -> Study:
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
    except (ValueError, RecursionError) as error:  # also numbers and nests that no parser follows
        raise StudyError([f"{file}: {_toml_problem(str(error))}"]) from None
    reader = KeyReader(file)
    reader.keys(top, STUDY_KEYS, "")
    states = read_states(reader, top.get("chain"), top.get("arms"), place)
    arms = (Arm(STATE),) if states and not top.get("arms") else _arms(reader, top.get("arms"), place)
    if states and states.versions:  # each state has its own
        arms = tuple(replace(arm, settings={**arm.settings, "version": states.versions[0]}) for arm in arms)
    measure = reader.value(top, STUDY_KEYS["measure"])
    _check_measure(reader, measure, "measure")
    workloads = _workloads(reader, top.get("workloads"), arms, measure)
    if arms and arms[0].weigh:
        reader.wrong(f"arms.{arms[0].name}.weigh", "the first arm is the reference; nothing is left out of it")

    def value(key: str) -> Any:
        return reader.value(top, STUDY_KEYS[key])

    study = Study(
        name=value("name"),
        arms=arms,
        workloads=workloads,
        margin=value("margin"),
        risk=value("risk"),
        blocks=value("blocks") or (DEFAULT_BLOCKS if states else _usual_blocks(arms)),
        measure=measure,
        seed=value("seed"),
        keep_environment=value("keep_environment"),
        secret_environment=_secret(reader, value("secret_environment"), arms),
        vary=_vary(reader, value("vary"), arms),
        affinity=_affinity(reader, top.get("affinity")),
        niceness=value("niceness"),
        fixed_addresses=value("address_space") == "fixed",
        stopping=StoppingRule(value("stopping")),
        gate=_gate(reader, top.get("gate")),
        per=_per(reader, top.get("load"), workloads),
        states=states,
        shared_files=value("shared_files"),
        written_files=value("written_files"),
    )
    placebo = value("placebo")
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
    words, measures = (tuple(dict.fromkeys(reader.value(table, key, "gate"))) for key in GATE_KEYS.values())
    for word in words:
        if word not in GATE_WORDS:
            near = get_close_matches(word, GATE_WORDS, 1, 0.5)
            hint = f'did you mean "{near[0]}"?' if near else f"choose among {', '.join(GATE_WORDS)}"
            reader.wrong("gate.stop", f'"{word}" is nothing to look for; {hint}')
    for measure in measures:
        _check_measure(reader, measure, "gate.measures")
    return Gate(tuple(word for word in words if word in GATE_WORDS), measures)


def _per(reader: KeyReader, value: Any, workloads: Sequence[Workload]) -> str:
    """Return the span in which workloads run as often as their weights say, "" where nobody says."""
    if value is None:
        return ""
    table = reader.table(value, "load")
    reader.keys(table, LOAD_KEYS, "load")
    per: str = reader.value(table, LOAD_KEYS["per"], "load")
    if not per.strip() or not per.isprintable() or len(per) > _LONGEST_SPAN:
        reader.wrong("load.per", f'{shown(per)} is no span; write for example "day"')
    if not any(workload.weight for workload in workloads):
        reader.wrong("load", "no workload has a weight above 0, so that there is no load")
    return per


def _usual_blocks(arms: Sequence[Arm]) -> int:
    return DEFAULT_BLOCKS if len(arms) > 1 else ONE_ARM_STUDY_BLOCKS


def _secret(reader: KeyReader, names: tuple[str, ...], arms: tuple[Arm, ...]) -> tuple[str, ...]:
    """Return the names of variables that are never kept; what stands in a study is kept with it."""
    for arm in arms:
        for name in names:
            if name in arm.environment:
                reader.wrong(
                    f"arms.{arm.name}.environment.{name}",
                    "it is named in secret_environment, and what a study sets is kept; set it in the environment",
                )
    return names


def _vary(reader: KeyReader, names: tuple[str, ...], arms: tuple[Arm, ...]) -> tuple[Condition, ...]:
    known = [str(one) for one in Condition]
    for name in names:
        if name not in known:
            near = get_close_matches(name, known, 1, 0.4)
            hint = f'did you mean "{near[0]}"?' if near else "known are " + ", ".join(known)
            reader.wrong("vary", f"{shown(name)} cannot be varied; {hint}")
    for arm in arms:
        if Condition.HASH_SEED in names and "PYTHONHASHSEED" in arm.environment:
            reader.wrong("vary", f'"hash seed" is varied and arm {arm.name} fixes PYTHONHASHSEED; keep one of them')
        if Condition.FOLDER_DEPTH in names and arm.folder != ".":
            reader.wrong("vary", f'"folder depth" needs arms laid out apart, and arm {arm.name} is used where it lies')
    return tuple(dict.fromkeys(Condition(name) for name in names if name in known))


def _affinity(reader: KeyReader, value: Any) -> tuple[int, ...]:
    if value is None:
        return ()
    if isinstance(value, list) and value and all(type(cpu) is int and 0 <= cpu < 4096 for cpu in value):
        return tuple(sorted(set(value)))
    reader.wrong("affinity", f"{shown(value)} is no list of processors; write for example [0, 1]")
    return ()


def _toml_problem(message: str) -> str:
    """Turn a parser's message into our sentence; a name given twice is the commonest slip."""
    if ("declare" in message and "twice" in message) or "overwrite" in message or "mutate" in message:
        return f"a name or key stands twice; each arm, workload and key may be given once ({message})"
    return f"it is not valid TOML: {message}"


def _arms(reader: KeyReader, value: Any, place: StudyPlace) -> tuple[Arm, ...]:
    if not value:
        reader.wrong("arms", 'no arm is given; write for example [arms.before] with revision = "v1"')
        return ()
    return tuple(
        _arm(reader, name, reader.table(table, f"arms.{name}"), place)
        for name, table in reader.table(value, "arms").items()
    )


def _arm(reader: KeyReader, name: str, table: dict[str, Any], place: StudyPlace) -> Arm:
    path = f"arms.{name}"
    reader.name(name, path)
    reader.keys(table, ARM_KEYS, path)
    folder, revision, build, weigh, filters = (
        reader.value(table, ARM_KEYS[key], path) for key in ("folder", "revision", "build", "weigh", "filters")
    )
    if folder and revision:
        reader.wrong(path, "folder and revision are both given; keep the one that is meant")
    elif folder and not place.has_folder(folder):
        reader.wrong(f"{path}.folder", f'there is no folder "{folder}" beside the study')
    elif revision and (problem := place.revision_problem(revision)):
        reader.wrong(f"{path}.revision", problem)
    command = table.get("command")
    return Arm(
        name=name,
        folder=folder or ".",
        revision=revision,
        environment=reader.pairs(table.get("environment"), f"{path}.environment"),
        settings=reader.pairs(table.get("settings"), f"{path}.settings", _SETTING),
        build=build,
        before_all=_steps(reader, table.get("before_all"), f"{path}.before_all"),
        command={"": command} if isinstance(command, str) else reader.pairs(command, f"{path}.command"),
        weigh=weigh,
        filters=filters,
    )


def _steps(reader: KeyReader, value: Any, path: str) -> tuple[str, ...]:
    """Return a command, or a list of them, as a tuple."""
    steps = [value] if isinstance(value, str) else [] if value is None else value
    if isinstance(steps, list) and all(map(is_text, steps)):
        return tuple(steps)
    reader.wrong(path, f'{shown(value)} is no command; write for example "createdb {{arm}}", or a list of commands')
    return ()


def _workloads(reader: KeyReader, value: Any, arms: tuple[Arm, ...], measure: str) -> tuple[Workload, ...]:
    if not value:
        reader.wrong("workloads", 'no workload is given; write for example [workloads.year] with command = "..."')
        return ()
    found: list[Workload] = []
    for name, table in reader.table(value, "workloads").items():
        found += _expanded(reader, name, reader.table(table, f"workloads.{name}"), arms, measure)
    check_floors(reader, found)
    bases = {workload.base for workload in found}
    for arm in arms:
        for base in arm.command:
            if base and base not in bases:
                reader.wrong(f"arms.{arm.name}.command.{base}", f'there is no workload "{base}"')
        for step in arm.build:
            check_template(reader, f"arms.{arm.name}.build", step, arm.filled)
        for step in arm.before_all:
            check_template(reader, f"arms.{arm.name}.before_all", step, arm.filled)
    return tuple(found)


def _ceilings(reader: KeyReader, table: Mapping[str, Any], path: str, measure: str) -> tuple[Ceiling, ...]:
    """Return the ceilings of a workload: one text for the study's measure, or a table with one of each measure."""
    value = table.get("ceiling")
    if value is None:
        return ()
    found = []
    given = value if isinstance(value, dict) else {measure: value}
    for name, text in given.items():
        where = f"{path}.ceiling.{name}" if isinstance(value, dict) else f"{path}.ceiling"
        count = len(reader.problems)
        _check_measure(reader, name, where)
        numbers = table.get("numbers")
        number = numbers.get(name.removeprefix("reading:")) if isinstance(numbers, dict) else None
        more = isinstance(number, dict) and number.get("better") == "more"
        if len(reader.problems) > count:
            continue
        if more or (known := gated_measure(name)).better == "more":
            reader.wrong(where, f"of {name} more is better; a ceiling is for what must not be more")
            continue
        try:
            found.append(ceiling_of(text, known, unit_known=not name.startswith("reading:")))
        except UnitError as error:
            reader.wrong(where, str(error))
    return tuple(found)


def _expected(reader: KeyReader, table: Mapping[str, Any], path: str) -> dict[str, float]:
    """Return which share of the whole places are expected to take, by their names."""
    value, path = table.get("expected_share"), f"{path}.expected_share"
    found = {}
    for name, text in reader.table(value, path).items() if value is not None else ():
        if isinstance(text, dict):
            example = f'"{name}.{next(iter(text), "read")}" = "10 %"'
            reader.wrong(f"{path}.{name}", f"a name with dots stands in quotes: {example}")
            continue
        try:
            share = parse_share(text)
        except UnitError as error:
            reader.wrong(f"{path}.{name}", str(error))
            continue
        if not 0 < share <= 1:
            reader.wrong(f"{path}.{name}", f"{shown(text)} is out of range; it must be above 0 and at most 100 %")
            continue
        found[name] = share
    return found


def _what(reader: KeyReader, table: Mapping[str, Any], path: str) -> tuple[What, WorkloadKind]:
    """Return what a workload runs, and of which kind that is; where it says nothing, a command that is empty."""
    found = [(what, kind) for kind in kinds().values() if (what := kind.read(reader, table, path)) is not None]
    if found:
        return found[-1]  # a second one is told by whichever kind is not the command
    reader.wrong(path, 'no command is given; write for example command = "python -m tidebook version"')
    return Command(""), kind_of(Command(""))


def _expanded(
    reader: KeyReader, name: str, table: dict[str, Any], arms: tuple[Arm, ...], measure: str
) -> list[Workload]:
    """Return one workload for each combination of input values."""
    path = f"workloads.{name}"
    reader.name(name, path)
    reader.keys(table, workload_keys(), path)
    what, kind = _what(reader, table, path)
    answer, answer_rule = read_answer(reader, table, path, kind.answers)

    def value(key: str) -> Any:
        return reader.value(table, SHARED_KEYS[key], path)

    plain = Workload(
        name=name,
        base=name,
        what=what,
        settings=reader.pairs(table.get("settings"), f"{path}.settings", _SETTING),
        limit_s=value("limit"),
        answer=answer,
        answer_rule=answer_rule,
        weight=None if (weight := value("weight")) is None else float(weight),
        output_bytes=value("output"),
        memory_bytes=value("memory"),
        before_all=value("before_all"),
        before_each=value("before_each"),
        after_each=value("after_each"),
        spans=value("spans"),
        start=read_start(reader, table, path, kind),
        files=value("files"),
        floor=value("floor"),
        blocks=value("blocks"),
        scale=float(value("scale")),
        ceilings=_ceilings(reader, table, path, measure),
        expected_share=_expected(reader, table, path),
        ready=read_ready(reader, table, path) if isinstance(what, Command) else Ready(),
        numbers=read_numbers(reader, table.get("numbers"), path),
        told=ToldLimits(value("told"), value("told_lines"), value("told_names")),
    )
    workloads = []
    for values in read_inputs(reader, table.get("inputs"), f"{path}.inputs"):
        inputs, filled = as_texts(values), kind.with_inputs(reader, path, what, values)
        workloads.append(replace(plain, name=workload_name(name, inputs), inputs=inputs, what=filled))
    kind.check(reader, path, workloads[0], arms)
    return workloads
