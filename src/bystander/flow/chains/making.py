"""The states of a chain are made: one that cannot be built is told, and its edit counts with the next."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path, PurePath

from bystander.design import (
    ArmState,
    ChainKind,
    FilePatch,
    Joined,
    KeptState,
    Link,
    Study,
    edit_size,
    read_patch,
)
from bystander.errors import ArmError, BystanderError, StudyError
from bystander.evidence import functions_of
from bystander.exchange import SETTLED_FILE
from bystander.field import ArmMaker, Edits, source_text
from bystander.flow.chains.states import linked
from bystander.flow.observer import Observer
from bystander.flow.places import STUDY_FILE
from bystander.flow.trials.ready import ready_commands

__all__ = ["is_own_file", "kept_state", "made_chain", "measured"]

_MOST_FUNCTIONS = 40
_ENDS = {ChainKind.PIECES: ("before", "after"), ChainKind.AGAIN: ("now",)}  # without them there is nothing to try


def made_chain(study: Study, maker: ArmMaker, observer: Observer) -> Study:
    """Return the study of a chain without the states that cannot be built, its links told how large they are.

    Raises
    ------
    ArmError
        When fewer than two states can be built.
    """
    if study.chain is None:
        return study
    maker.remove_half_made()
    made: dict[str, ArmState] = {}
    broken: dict[str, Joined] = {}
    for arm in study.arms:
        observer.making(arm.name)
        try:
            made[arm.name] = maker.make(study, arm)
            ready_commands(replace(study, arms=(arm,)), (made[arm.name],))
        except (ArmError, StudyError) as error:
            if study.chain.kind is ChainKind.ADDED or arm.name in _ENDS.get(study.chain.kind, ()):
                raise
            made.pop(arm.name, None)
            broken[arm.name] = Joined(arm.name, _first_line(error))
    if broken:
        without = _joined if study.chain.kind is ChainKind.LINKS else _left_out
        study = without(study, broken, observer)
    return measured(study, made, maker)


def _first_line(error: BystanderError) -> str:
    line = (str(error).splitlines() or [""])[0].rstrip(":")
    return line.partition(": ")[2] if line.startswith("arm ") else line


def _joined(study: Study, broken: dict[str, Joined], observer: Observer) -> Study:
    """Return the chain without some states: the edit that leads to each counts with that of the next."""
    assert study.chain
    arms = [arm for arm in study.arms if arm.name not in broken]
    if len(arms) < 2:
        why = next(iter(broken.values()))
        raise ArmError(f"of {len(study.arms)} states {len(arms)} can be built; {why.name}: {why.why}")
    links: list[Link] = []
    since, waiting = arms[0].name, list[Joined]()
    first = study.chain.links[0].since
    if first in broken:
        observer.remark(f"{first} cannot be built ({broken[first].why}): the chain begins with {since}.")
    begun = since == first
    for link in study.chain.links:
        if link.arm in broken:
            if begun:
                waiting.append(broken[link.arm])
            continue
        if begun:
            links.append(replace(link, since=since, joined=tuple(waiting)))
        begun, since, waiting = True, link.arm, []
    inside = {one.name for link in links for one in link.joined}
    for one in broken.values():
        if one.name in inside:
            observer.remark(f"{one.name} cannot be built, and its edit counts with the next: {one.why}.")
    if waiting:
        names = ", ".join(one.name for one in waiting)
        observer.remark(f"{names} cannot be built ({waiting[0].why}): the chain ends with {since}.")
    return linked(replace(study, arms=tuple(arms), compared=()), replace(study.chain, links=tuple(links)))


def _left_out(study: Study, broken: dict[str, Joined], observer: Observer) -> Study:
    """Return a chain without the links that lead to or from states that cannot be built."""
    assert study.chain
    for link in study.chain.links:
        if why := broken.get(link.arm) or broken.get(link.since):
            observer.remark(f"{link.name}, {link.subject}, is left out: {why.name} cannot be built ({why.why}).")
    links = tuple(link for link in study.chain.links if link.arm not in broken and link.since not in broken)
    if not links:
        raise ArmError(f"none of {len(study.chain.links)} links can be built; {next(iter(broken.values())).why}")
    arms = tuple(arm for arm in study.arms if arm.name not in broken)
    return linked(replace(study, arms=arms, compared=()), replace(study.chain, links=links))


def is_own_file(file: str, study_file: str) -> bool:
    """Whether a file is a study, or what was settled beside it, and no edit of the program."""
    return PurePath(file).name in {SETTLED_FILE, STUDY_FILE, study_file}


def kept_state(study: Study, maker: ArmMaker, name: str, state: ArmState) -> KeptState | None:
    """Return the files of an arm as a state between which patches can be made; None where nobody kept them."""
    arm = next(arm for arm in study.arms if arm.name == name)
    if arm.kept:
        return arm.kept
    git = maker.home.git
    if git is None or not state.facts.tree or state.facts.digest:
        return None
    return KeptState("tree", state.facts.tree, str(maker.home.path.relative_to(git.top.resolve())).removeprefix("."))


def measured(study: Study, made: dict[str, ArmState], maker: ArmMaker) -> Study:
    """Return the study with the size of each link's edit, and the functions that it changes."""
    assert study.chain
    links = []
    for link in study.chain.links:
        states = [kept_state(study, maker, name, made[name]) for name in (link.since, link.arm)]
        if states[0] and states[1] and not link.size:
            patch = read_patch(Edits(maker.home).patch(states[0], states[1]))
            files = tuple(one for one in patch if not is_own_file(one.path, maker.home.file))
            tops = [_top(maker, study, made[name]) for name in (link.since, link.arm)]
            link = replace(link, size=edit_size(files), functions=_functions(files, tops[0], tops[1]))
        links.append(link)
    return replace(study, chain=replace(study.chain, links=tuple(links)))


def _top(maker: ArmMaker, study: Study, state: ArmState) -> Path:
    """Return the folder to which the paths of a patch are relative."""
    arm = next(arm for arm in study.arms if arm.name == state.name)
    return maker.folder_of(arm, state) or Path(state.folder)


def _functions(files: tuple[FilePatch, ...], before: Path, after: Path) -> tuple[str, ...]:
    """Return the functions that differ in Python files, as leads name them."""
    found: dict[str, None] = {}
    for one in files:
        if not one.path.endswith(".py"):
            continue
        sides = [{f.name: f.digest for f in functions_of(source_text(str(top / one.path)) or "") or ()}
                 for top in (before, after)]  # fmt: skip
        stem = Path(one.path).stem
        stem = Path(one.path).parent.name if stem == "__init__" else stem
        for name in sorted(sides[0].keys() | sides[1].keys()):
            if sides[0].get(name) != sides[1].get(name) and name != "<module>":
                found[f"{stem}.{name.replace('.<locals>.', '.')}"] = None
    return tuple(list(found)[:_MOST_FUNCTIONS])
