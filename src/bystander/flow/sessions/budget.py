"""From a time budget to a number of blocks, set once and before the start: later it would be stopping by hand."""

from __future__ import annotations

import math
import statistics
import time
from collections.abc import Sequence
from dataclasses import replace

from bystander.design import Study
from bystander.errors import BudgetError, UsageError
from bystander.flow.observer import Observer
from bystander.flow.trials.blocks import trial_blocks
from bystander.flow.trials.trial import TrialRunner
from bystander.foresight import FEWEST_BLOCKS, MOST_BLOCKS, Outlook, TrialBlock, Tried, outlooks, tried_noise
from bystander.stats import blocks_needed
from bystander.units import counted, duration_text, share_text
from bystander.verdicts import Noise

__all__ = ["within_budget"]

_SHARE_TRIED = 0.1  # of the budget, for trial blocks
_FEWEST_TRIED = 2
_MOST_BLOCKS = 100_000


def within_budget(
    study: Study, trials: TrialRunner, tried: Sequence[Tried], observer: Observer, budget_s: float
) -> Study:
    """Return the study with as many blocks as fit, from trial blocks that are not recorded; say what they can show.

    Parameters
    ----------
    budget_s : float
        What is left of the budget, in seconds; trial blocks take about a tenth of it.

    Raises
    ------
    UsageError
        When not even one block of each workload fits.
    BudgetError
        When as many blocks as fit could show nothing, whatever came out.
    """
    begun = time.monotonic()
    once_s = sum(one.outcome.took_s for one in tried)
    count = min(MOST_BLOCKS, max(_FEWEST_TRIED, math.floor(_SHARE_TRIED * budget_s / max(once_s, 1e-3))))
    if once_s > budget_s:
        raise UsageError(
            f"--budget: after one trial of each {duration_text(max(0.0, budget_s), 2)} is left, and a block of every "
            f"workload takes about {duration_text(once_s, 2)}; give more time, or --only some workloads"
        )
    blocks = trial_blocks(study, trials, tried, count, observer, candidates=True)
    round_s = _round_s(study, blocks, tried)
    left_s = budget_s - (time.monotonic() - begun)
    planned = replace(study, blocks=min(_MOST_BLOCKS, max(1, math.floor(left_s / round_s))))
    noises = tried_noise(study, blocks if count >= FEWEST_BLOCKS else (), tried)
    if study.planned_rows and planned.blocks < (needed := blocks_needed(study.tests, study.risk)):
        raise BudgetError(
            f"--budget: {counted(planned.blocks, 'block')} of each workload would fit in {duration_text(budget_s, 2)}, "
            f"and that can show nothing: it takes {needed} at least, about {duration_text(needed * round_s, 2)}"
        )
    observer.remark(_said(planned, budget_s, noises))
    return planned


def _round_s(study: Study, blocks: Sequence[TrialBlock], tried: Sequence[Tried]) -> float:
    """Return the seconds of one block of every workload: from trial blocks, or its one trial where it failed."""
    total = 0.0
    for w in range(len(study.workloads)):
        mine = [block.seconds for block in blocks if block.workload == w]
        once = [one.outcome.took_s for one in tried if one.workload == w]
        total += statistics.median(mine) if mine else sum(once)
    return max(total, 1e-6)


def _said(study: Study, budget_s: float, noises: Sequence[Noise]) -> str:
    blocks = counted(study.blocks, "block")
    text = f"{blocks} of each workload fit{'s' if study.blocks == 1 else ''} in {duration_text(budget_s, 2)}"
    if not study.comparisons:
        return text + "."
    found = [one for one in outlooks(study, noises) if math.isfinite(one.smallest)]
    if not found:
        return f"{text}; what they can show is not known from so few trial blocks."
    found.sort(key=lambda one: one.smallest)
    return f"{text}; in 8 of 10 such studies they show changes of {_span(study, found)}."


def _span(study: Study, found: Sequence[Outlook]) -> str:
    least, most = found[0], found[-1]
    if len(found) == 1:
        return share_text(least.smallest)
    names = study.workloads[least.workload].name, study.workloads[most.workload].name
    return f"{share_text(least.smallest)} ({names[0]}) to {share_text(most.smallest)} ({names[1]})"
