"""How many trials the ceilings of a study take, before any is run."""

from __future__ import annotations

from bystander.design import Ceiling, Study, gated_measure
from bystander.errors import StudyError
from bystander.stats import trials_for_ceiling
from bystander.units import counted
from bystander.verdicts import looks_for

__all__ = ["blocks_for_ceilings", "ceiling_sentences", "refuse_few_trials"]


def blocks_for_ceilings(study: Study) -> tuple[int, ...]:
    """Return the least blocks of each workload with which its ceilings could be shown to hold; 1 without any."""
    least = [1] * len(study.workloads)
    known: dict[float, int] = {}
    for w, _, ceiling in study.ceilings:
        if ceiling.share not in known:
            known[ceiling.share] = _blocks(study, ceiling)
        least[w] = max(least[w], known[ceiling.share])
    return tuple(least)


def _blocks(study: Study, ceiling: Ceiling) -> int:
    risk = study.risk / len(study.ceilings)
    return trials_for_ceiling(ceiling.share, risk, lambda blocks: looks_for(study, blocks))


def refuse_few_trials(study: Study) -> None:
    """Raise StudyError where a plan has fewer trials than it takes to show that a ceiling holds."""
    problems = []
    for workload, planned, least in zip(study.workloads, study.planned_blocks, blocks_for_ceilings(study), strict=True):
        if planned < least:
            problems.append(
                f"workloads.{workload.base}.ceiling: {counted(planned, 'block')} cannot show that "
                f"{_said(study, workload.ceilings)}, even with none beyond; it takes {least} (blocks = {least})"
            )
    if problems:
        raise StudyError(list(dict.fromkeys(problems)))


def _said(study: Study, ceilings: tuple[Ceiling, ...]) -> str:
    """Return the ceiling that takes the most trials: "95 % of trials stay within 250 ms"."""
    hardest = max(ceilings, key=lambda one: one.share)
    share, _, limit = hardest.text(gated_measure(hardest.measure).unit).partition(" within ")
    what = "" if hardest.measure == study.measure else f", of {hardest.measure}"
    return f"{share} of trials stay within {limit}{what}"


def ceiling_sentences(study: Study) -> list[str]:
    """Say how many trials it takes to show that ceilings hold, and how many are planned."""
    sentences: dict[str, None] = {}
    for workload, planned, least in zip(study.workloads, study.planned_blocks, blocks_for_ceilings(study), strict=True):
        if workload.ceilings:
            sentence = (
                f"{workload.base}: to show that {_said(study, workload.ceilings)} takes {least} trials of an arm at "
                f"least, none of them beyond; {planned} are planned."
            )
            sentences[sentence] = None
    return list(sentences)
