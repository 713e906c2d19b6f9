"""A lead or a guess is tried: a study of its own, in which one arm is a copy of the files that one may edit."""

from __future__ import annotations

import re
import stat
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bystander.design import (
    Edits,
    Hint,
    Lead,
    Place,
    RecordHead,
    Standing,
    command_line,
    place_label,
    place_where,
)
from bystander.errors import UsageError
from bystander.evidence import functions_of
from bystander.exchange import toml_key, toml_value
from bystander.field import source_text
from bystander.files import copy_tree, entries, write_whole
from bystander.flow.leads.edits import with_edits
from bystander.flow.leads.kept import Kept
from bystander.flow.places import STUDY_FILE
from bystander.units import counted, size_text

__all__ = ["Tried", "study_file_here", "try_one"]

_AS_IT_IS, _TRIED = "as-it-is", "tried"
_LEFT_OUT = (".git", ".bystander", "__pycache__")
_NAMED = 4
_MOST_BYTES = 500 * 2**20
_DROPPED = ("gate", "load", "seed", "blocks", "arms", "workloads", "name", "placebo")


@dataclass(frozen=True)
class Tried:
    """What was written.

    Attributes
    ----------
    study, folder : Path
        The study, and the copy of the files.
    todo : str
        What is left to do before it can be observed; "" where the arm is ready.
    said : str
        What differs in the arm, or will.
    left_out : tuple of str
        What is no file, folder or link, and is not in the copy.
    """

    study: Path
    folder: Path
    todo: str
    said: str
    left_out: tuple[str, ...] = ()

    @property
    def command(self) -> str:
        """What tests it."""
        return command_line("observe", "--study", self.study.name)


def try_one(kept: Kept, arm: int, leads: Sequence[Lead], hints: Sequence[Hint], number: int) -> Tried:
    """Write a study that tests a lead, or a guess, beside the one that was observed, with a copy of the arm's files.

    Where a lead was edited between the arms, its function is put back to how it was before: the study is ready.

    Parameters
    ----------
    arm : int
        The arm that is changed: the candidate.
    number : int
        From 1 on: leads as they are shown, then guesses.

    Raises
    ------
    UsageError
        When there is no such lead, the files are not here any more, or something is there already.
    """
    count = len(leads) + len(hints)
    if not 1 <= number <= count:
        there = f"there are {counted(len(leads), 'lead')} and {counted(len(hints), 'guess', 'guesses')}"
        raise UsageError(f"--try: {number} is none of them; {there}")
    head = kept.head
    table, base = _study_table(head, kept.workload)
    home, root = Path(head.study_folder), Path(head.arms[arm].folder)
    if not root.is_dir():
        raise UsageError(f"--try: the files of {head.study.arms[arm].name} are not here any more: {root}")
    study, folder = home / f"try-{number}.toml", home / f"try-{number}"
    for target in (study, folder):
        if target.exists() or target.is_symlink():
            raise UsageError(f"--try: {target} is there already; move it away, or remove it")
    if _size(root) > _MOST_BYTES:
        most = size_text(_MOST_BYTES)
        raise UsageError(f"--try: {root} holds more than {most}, too much to copy; give an arm of your own its edit")
    lead = leads[number - 1] if number <= len(leads) else None
    hint = None if lead else hints[number - 1 - len(leads)]
    place = lead.place if lead else hint.place if hint else Place("", "")
    left = copy_tree(root, folder, _left_out, resolved=True)  # somebody edits it: no link may lead to other files
    label = place_label(place)
    where = place_where(
        place._replace(line=hint.line if hint else (lead.line if lead else 0) or place.line), (str(root),)
    )
    if lead and _put_back(kept, lead, folder, root):
        against = head.study.arms[kept.against or 0].name
        todo, said = "", f"everything as under {head.study.arms[arm].name}, but {label} as it is under {against}"
    elif hint:
        todo, said = f"edit {folder.name}/{where}: {hint.advice}", f"{label} {hint.said}; {hint.advice}"
    else:
        todo, said = f"edit {folder.name}/{where}", f"an edit of {label} that makes it cheaper"
    write_whole(study, _text(table, base, head, arm, folder.name, label, said), 0o666)
    return Tried(study, folder, todo, said, left)


def study_file_here(head: RecordHead) -> Path | None:
    """Return the file of a record's study; None where another machine observed it, or the file is gone."""
    file = Path(head.study_folder, head.study_file or STUDY_FILE)
    return file if head.observed_here and file.exists() else None


def _study_table(head: RecordHead, workload: int) -> tuple[dict[str, Any], str]:
    """Return the study's file as a table, and the name of the workload in it."""
    base = head.study.workloads[workload].base
    file = study_file_here(head)
    if file is None:
        raise UsageError(f"--try: record {head.name} has no study file here; bystander new writes one to begin with")
    try:
        table = tomllib.loads(file.read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        raise UsageError(f"--try: {file} cannot be read: {error}") from None
    workloads = table.get("workloads")
    if not isinstance(workloads, dict) or not isinstance(workloads.get(base), dict):
        raise UsageError(f"--try: {file.name} has no workload {base} any more")
    return table, base


def _size(root: Path) -> int:
    """Return the bytes of the files that would be copied; as soon as they are too many, so many."""
    found = 0
    for one in entries(root, _left_out, resolved=True):
        found += one.path.stat().st_size if one.kind == stat.S_IFREG else 0
        if found > _MOST_BYTES:
            break
    return found


def _left_out(name: str) -> bool:
    return name in _LEFT_OUT or name.startswith("try-")


def _put_back(kept: Kept, lead: Lead, folder: Path, root: Path) -> bool:
    """Write a function that was edited as it was before; return whether that could be done."""
    if kept.against is None or lead.standing is not Standing.EDITED or lead.moved_from:
        return False
    before = _before(with_edits(kept).edits, lead.place)
    if before is None:
        return False
    texts = source_text(lead.place.file), source_text(before.file)
    spans = [_span(text, place) for text, place in zip(texts, (lead.place, before), strict=True)]
    inside = Path(lead.place.file)
    if None in texts or None in spans or not inside.is_relative_to(root):
        return False
    (first, last), (then, until) = spans[0] or (0, 0), spans[1] or (0, 0)
    now, old = (str(text).splitlines(keepends=True) for text in texts)
    made = "".join([*now[: first - 1], *old[then - 1 : until], *now[last:]])
    if functions_of(made) is None:
        return False
    target = folder / inside.relative_to(root)
    write_whole(target, made, stat.S_IMODE(target.stat().st_mode))
    return True


def _before(edits: Edits, place: Place) -> Place | None:
    return next((one.before for one in edits.matches if one.after == place), None)


def _span(text: str | None, place: Place) -> tuple[int, int] | None:
    mine = [one for one in functions_of(text or "") or () if one.name == place.name]
    nearest = min(mine, key=lambda one: abs(one.first - place.line), default=None)
    return (nearest.first, nearest.last) if nearest else None


def _text(
    table: Mapping[str, Any], base: str, head: RecordHead, arm: int, folder: str, label: str, said: str
) -> str:  # fmt: skip
    """Return the study: what all of it shares, the one workload with what it needs, and two arms."""
    arms, name = table.get("arms"), head.study.arms[arm].name
    mine = dict(arms[name]) if isinstance(arms, dict) and isinstance(arms.get(name), dict) else {}
    tried = {key: value for key, value in mine.items() if key != "revision"} | {"folder": folder}
    workloads = table["workloads"]
    needed = {base: workloads[base]}
    floor = str(workloads[base].get("floor", ""))
    if floor in workloads:
        needed[floor] = workloads[floor]
    shared = {key: value for key, value in table.items() if key not in _DROPPED}
    title = re.sub(r"\s+", " ", f"{head.study.name}: {label} tried")
    lines = [
        f"# {_AS_IT_IS} is {name} of {head.name}; {_TRIED}, in {folder}/: {said}.".replace("\n", " "),
        f"name = {toml_value(title)}",
        *(f"{toml_key(key)} = {toml_value(value)}" for key, value in shared.items()),
    ]
    for which, of in ((_AS_IT_IS, mine), (_TRIED, tried)):
        lines += ["", f"[arms.{which}]", *(f"{toml_key(key)} = {toml_value(value)}" for key, value in of.items())]
    for which, of in needed.items():
        lines += ["", f"[workloads.{toml_key(which)}]"]
        lines += [f"{toml_key(key)} = {toml_value(value)}" for key, value in of.items()]
    return "\n".join(lines) + "\n"
