"""The kind of workload that is a command: its keys, and what its templates may name."""

from __future__ import annotations

from collections.abc import Mapping
from difflib import get_close_matches
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.kinds import WorkloadKind
from bystander.design.readers.study_keys import COMMAND_KEYS
from bystander.design.readers.values import shown
from bystander.design.studies.arms import Arm
from bystander.design.studies.placeholders import filled_words, placeholder_names
from bystander.design.studies.words import Start
from bystander.design.studies.workloads import Command, Workload

__all__ = ["COMMAND_KIND", "check_template"]


def read_command(reader: KeyReader, table: Mapping[str, Any], path: str) -> Command | None:
    """Return the command of a workload's table, None where it has none."""
    if "command" not in table:
        return None
    template, shell, given = (reader.value(table, COMMAND_KEYS[name], path) for name in ("command", "shell", "input"))
    return Command(template or "", shell, given)


def _check(reader: KeyReader, path: str, workload: Workload, arms: tuple[Arm, ...]) -> None:
    """Check the command and the steps under each arm; what is wrong alike in all of them is told once."""
    if not workload.template:  # told when it was read
        return
    shared = tuple(arm for arm in arms if arm.command_for(workload) == workload.template)
    templates = [(f"{path}.command", workload.template, shared)]
    templates += [(f"arms.{arm.name}.command", arm.command_for(workload), (arm,)) for arm in arms if arm not in shared]
    templates += [(f"{path}.{name}", step, arms) for name, step in workload.steps.items()]
    if isinstance(workload.what, Command) and workload.what.input:
        templates.append((f"{path}.input", workload.what.input, arms))
    if workload.answer_rule.compare:
        templates.append((f"{path}.answer.compare", workload.answer_rule.compare, arms))
    used: set[str] = set()
    for where, template, users in templates:
        used |= set(placeholder_names(template))
        given = dict.fromkeys(("reference", "candidate"), "") if where.endswith(".answer.compare") else {}
        values = {**{name: value for arm in users for name, value in arm.values_for(workload).items()}, **given}
        if users:
            check_template(reader, where, template, values)
        for arm in users:
            for name in placeholder_names(template):
                if name in values and name not in {**arm.values_for(workload), **given}:
                    reader.wrong(where, f"{{{name}}} is no setting under arm {arm.name}; give it one there too")
    for name in workload.inputs:
        if arms and name not in used:
            reader.wrong(f"{path}.inputs.{name}", f"the command does not use it; write {{{name}}} where it belongs")


def check_template(reader: KeyReader, path: str, template: str, values: Mapping[str, str]) -> None:
    """Check that a template can be split into words, and names only what there is."""
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


def _digested(command: Command) -> dict[str, Any]:
    given = {"input": command.input} if command.input else {}
    return {"template": command.template, "shell": command.shell, **given}


COMMAND_KIND = WorkloadKind(
    type=Command,
    key="command",
    keys=tuple(COMMAND_KEYS),
    read=read_command,
    check=_check,
    digested=_digested,
    starts=(Start.FROM_DISK, Start.FROM_MEMORY),
    answers=("output", "file", "exit code"),
    floored=True,
    page="study.md",
)
