"""What should be known before an observation: arms that are alike, blocks that can show nothing, a busy machine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from bystander.design import ArmState, Command, MachineState, Study, placeholder_names, stretches
from bystander.foresight.tried import AnswerDifference, Tried
from bystander.stats import blocks_needed
from bystander.units import counted, share_text
from bystander.verdicts import PLACEBO_RISK

__all__ = [
    "alike",
    "blocks_lacking",
    "difference_sentence",
    "disturbance",
    "left_behind",
    "shims",
    "spaced",
    "timers",
    "too_few",
    "unread_answers",
    "unwatched",
]


def alike(study: Study, arms: Sequence[ArmState]) -> list[str]:
    """Say loudly which arms are the same thing: the same files, settings, environment and commands."""
    by_key: dict[str, list[str]] = {}
    for arm, state in zip(study.arms, arms, strict=True):
        if not arm.placebo:
            by_key.setdefault(f"{state.key} {state.folder if arm.in_place else ''}", []).append(arm.name)
    return [
        f"THE ARMS {' AND '.join(names)} ARE THE SAME THING: the same files, settings, environment and commands. What "
        "differs between them is chance."
        for names in by_key.values()
        if len(names) > 1
    ]


def spaced(study: Study) -> list[str]:
    """Say where a value with a space is filled into a command: it is one word, whatever it would be in a shell."""
    found: dict[str, None] = {}
    for workload in study.workloads:
        if isinstance(workload.what, Command) and not workload.what.shell:
            for arm in study.arms:
                template, values = arm.command_for(workload), arm.values_for(workload)
                for name in placeholder_names(template):
                    if len((value := values.get(name, "")).split()) > 1:
                        sentence = f'{{{name}}} of {workload.base} is filled with "{value}", one word of its command.'
                        found[sentence] = None
    return list(found)


def blocks_lacking(study: Study) -> int:
    """Return how many blocks it takes that any row could look changed, where fewer are planned; else 0."""
    needed = blocks_needed(study.tests, study.risk) if study.planned_rows else 0
    return needed if min(study.planned_blocks) < needed else 0


def too_few(study: Study) -> list[str]:
    """Say when so few blocks could not show a change, or a difference of the placebo, whatever came out."""
    sentences = []
    least = min(study.planned_blocks)
    if needed := blocks_lacking(study):
        gated = f" with a gate on {len(study.gate.measures)} measures" if study.tests > study.planned_rows else ""
        sentences.append(
            f"{counted(least, 'block')} cannot show one changed row among "
            f"{counted(study.planned_rows, 'comparison')}{gated}: it takes {needed} at least (blocks = {needed})."
        )
    workloads = len(study.workloads)
    if study.control and least < (needed := blocks_needed(workloads, PLACEBO_RISK)):
        sentences.append(
            f"The placebo cannot differ visibly in {least} blocks, however it is: with "
            f"{counted(workloads, 'workload')} it takes {needed} at least (blocks = {needed})."
        )
    return sentences


def shims(arms: tuple[ArmState, ...]) -> list[str]:
    """Say when a trial pays for a script that starts the interpreter."""
    programs = {}
    for arm in arms:
        interpreter = arm.facts.interpreter
        if interpreter.through_script:
            programs[interpreter.path] = interpreter.program
    return [
        f"{path} is a script that starts {program}, and every trial pays for that; "
        "name the interpreter itself to leave it out."
        for path, program in programs.items()
    ]


def unread_answers(study: Study) -> list[str]:
    """Say when no workload compares what its arms print."""
    if len(study.arms) < 2 or any(workload.answer for workload in study.workloads):
        return []
    return ['No answers are compared: answer = "output" finds a faster program that prints something else.']


_COSTLY = 0.01


def timers(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Say where loop and clock take a share of a callable's samples that matters."""
    found = []
    for one in tried:
        if one.arm == study.reference_at and one.outcome.timer_share > _COSTLY:
            iterations = one.outcome.harness["iterations"]
            found.append(
                f"{study.workloads[one.workload].name}: looping and reading the clock take "
                f"{share_text(one.outcome.timer_share)} of a sample of {iterations:g} iterations; the loop's part is "
                "taken off."
            )
    return found


def left_behind(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Say which workloads leave processes behind."""
    names = dict.fromkeys(study.workloads[one.workload].name for one in tried if one.outcome.left_behind)
    return [f"{name} leaves processes behind; they are ended after each trial." for name in names]


_STALLED, _STOLEN = 0.10, 0.02


def disturbance(before: MachineState, after: MachineState) -> list[str]:
    """Say what held the trials up while they were tried, as far as it can be read."""
    (seen,) = stretches([before, replace(after, first_block=0, last_block=0)])
    sentences = []
    if seen.stalled >= _STALLED:
        sentences.append(f"While this was tried, programs waited for a processor {seen.stalled:.0%} of the time.")
    if seen.disk_stalled >= _STALLED:
        sentences.append(f"While this was tried, programs waited for the disk {seen.disk_stalled:.0%} of the time.")
    if seen.stolen >= _STOLEN:
        sentences.append(f"While this was tried, other virtual machines took {seen.stolen:.0%} of the processors.")
    return [sentence.replace("%", " %") for sentence in sentences]


def unwatched(why: str) -> list[str]:
    """Say that it could not be seen which files the arms open, where there is a reason."""
    return [f"Whether each arm opens its own files only could not be watched: {why}."] if why else []


def difference_sentence(study: Study, difference: AnswerDifference) -> str:
    """Say that a candidate answers differently, or that answers differ by themselves."""
    reference, arm = study.names(difference.comparison)
    workload = study.workloads[difference.workload].name
    if difference.varies:
        return f"{workload}: answers differ from trial to trial: not compared."
    reason = study.accepted(difference.workload, difference.comparison.candidate)
    accepted = f", which is accepted: {reason}" if reason else ""
    return f"{workload}: {arm} gives another answer than {reference}{accepted}."
