"""From a time budget to numbers of blocks, set once and before the start: later it would be stopping by hand."""

from __future__ import annotations

import math
import shlex
import statistics
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Study, only_options
from bystander.errors import BudgetError, UsageError
from bystander.flow.observer import Observer
from bystander.flow.trials.blocks import Clocks, trial_blocks
from bystander.flow.trials.trial import TrialRunner
from bystander.foresight import (
    FEWEST_BLOCKS,
    Outlook,
    Shares,
    TrialBlock,
    Tried,
    blocks_for_ceilings,
    outlooks,
    shared_blocks,
    steadied,
    tried_noise,
)
from bystander.stats import blocks_needed
from bystander.units import counted, duration_text, share_text
from bystander.verdicts import PLACEBO_RISK, Noise

__all__ = ["within_budget"]

_SHARE_TRIED = 0.15  # of the budget, for trial blocks
_FEWEST_TRIED, _MOST_TRIED = 2, 40
_MOST_BLOCKS = 100_000
_NAMED = 8


def within_budget(
    study: Study,
    trials: TrialRunner,
    tried: Sequence[Tried],
    observer: Observer,
    budget_s: float,
    earlier: Sequence[Noise] = (),
    clocks: Clocks | None = None,
) -> Study:
    """Return the study with as many blocks of each workload as make the worst precision best; say who got what.

    Cost and noise are those of trial blocks, which are not recorded; an earlier record adds what it knows of the noise.

    Parameters
    ----------
    budget_s : float
        What is left of the budget, in seconds; trial blocks take about a seventh of it, the same time each workload.
    earlier : sequence of Noise
        From an earlier record of the same workloads.

    Raises
    ------
    UsageError
        When not even one block of each workload fits.
    BudgetError
        When as many blocks as fit could show nothing, whatever came out.
    """
    clocks = clocks or Clocks()
    begun = clocks.monotonic()
    every = range(len(study.workloads))
    once = [sum(one.outcome.took_s for one in tried if one.workload == w) for w in every]
    once_s, each_s = sum(once), _SHARE_TRIED * budget_s / len(once)
    counts = [min(_MOST_TRIED, max(_FEWEST_TRIED, math.floor(each_s / max(one, 1e-3)))) for one in once]
    if once_s > budget_s:
        eats = _what_eats_it(study, once)
        raise UsageError(
            f"--budget: after one trial of each {duration_text(max(0.0, budget_s), 2)} is left, and a block of every "
            f"workload takes about {duration_text(once_s, 2)}{eats}; give more time, or --only some workloads"
        )
    blocks = trial_blocks(study, trials, tried, counts, observer, candidates=True, clocks=clocks)
    block_s = _block_s(blocks, once)
    left_s = max(0.0, budget_s - (clocks.monotonic() - begun))
    seen = tried_noise(study, blocks, tried)
    spreads = steadied([_differences(study, w, (*seen, *earlier)) for w in every])
    noises = [one for one in seen if counts[one.workload] >= FEWEST_BLOCKS]  # fewer say too little to speak of it
    least = np.maximum(_least(study), blocks_for_ceilings(study)).astype(float)
    shares = shared_blocks(spreads, np.array(block_s), least, left_s, _MOST_BLOCKS)
    if shares is None:
        raise BudgetError(_too_little(study, block_s, least, left_s, budget_s))
    own = zip(study.workloads, shares.blocks, strict=True)
    planned = replace(study, blocks=max(shares.blocks), workloads=tuple(replace(w, blocks=n) for w, n in own))
    observer.remark(_said(planned, shares, budget_s, noises))
    return planned


def _least(study: Study) -> int:
    """Return the fewest blocks in which a workload, and its placebo, could show anything."""
    if not study.planned_rows:
        return 1
    placebo = blocks_needed(len(study.workloads), PLACEBO_RISK) if study.control else 0
    return max(blocks_needed(study.tests, study.risk), placebo)


def _differences(study: Study, workload: int, noises: Sequence[Noise]) -> NDArray[np.float64]:
    found = [one.differences[study.measure] for one in noises if one.workload == workload]
    return np.concatenate([np.zeros(0), *found])


def _block_s(blocks: Sequence[TrialBlock], once: Sequence[float]) -> list[float]:
    """Return the seconds of one block of each workload: from trial blocks, or its one trial each where it failed."""
    found = []
    for w, once_s in enumerate(once):
        mine = [block.seconds for block in blocks if block.workload == w]
        found.append(max(1e-6, statistics.median(mine) if mine else once_s))
    return found


def _what_eats_it(study: Study, seconds: Sequence[float]) -> str:
    """Name the workloads that take most of a time, as a clause with a comma; "" where none stands out."""
    total, order = sum(seconds), sorted(range(len(seconds)), key=lambda w: -seconds[w])
    taken: list[int] = []
    while order and sum(seconds[w] for w in taken) < total / 2:
        taken.append(order.pop(0))
    if len(seconds) < 2 or not taken or 2 * len(taken) > len(seconds):
        return ""
    names = ", ".join(study.workloads[w].name for w in taken)
    return f", most of it for {names} ({duration_text(sum(seconds[w] for w in taken), 2)})"


def _too_little(
    study: Study, block_s: Sequence[float], least: NDArray[np.float64], left_s: float, budget_s: float
) -> str:
    """Say that a time could show nothing, what takes it, and what would do."""
    each_s = least * block_s
    needed_s = float(each_s.sum())
    fit = math.floor(left_s / sum(block_s))
    enough_s = math.ceil(1.25 * (needed_s + budget_s - left_s))  # the tries before it take a part, and machines vary
    text = (
        f"--budget: {counted(fit, 'block')} of each workload would fit in {duration_text(left_s, 2)}, and that can "
        f"show nothing: it takes {_span_of(least)} at least, about {duration_text(needed_s, 2)}"
        f'{_what_eats_it(study, each_s.tolist())}. --budget "{_plain(enough_s)}" would do'
    )
    cheap = [w for w in np.argsort(each_s).tolist() if each_s[w] <= left_s]
    while cheap and sum(each_s[w] for w in cheap) > left_s:
        cheap.pop()
    if not cheap:
        return text
    names = [study.workloads[w].name for w in sorted(cheap)]
    return f"{text}; so would {shlex.join(only_options(names))}" if len(cheap) <= _NAMED else text


def _span_of(blocks: NDArray[np.float64]) -> str:
    least, most = int(blocks.min()), int(blocks.max())
    return str(least) if least == most else f"{least} to {most}"


def _plain(seconds: float) -> str:
    """Return a time as an option takes it."""
    return f"{seconds:.0f} s" if seconds < 120 else f"{math.ceil(seconds / 60)} min"


def _said(study: Study, shares: Shares, budget_s: float, noises: Sequence[Noise]) -> str:
    took = duration_text(sum(shares.seconds), 2)
    if len(study.workloads) == 1:
        text = f"{counted(study.blocks, 'block')} fit{'s' if study.blocks == 1 else ''} in {duration_text(budget_s, 2)}"
    else:
        order = sorted(range(len(shares.blocks)), key=lambda w: -shares.seconds[w])
        each = [
            f"{study.workloads[w].name} {shares.blocks[w]} ({duration_text(shares.seconds[w], 2)})"
            for w in order[:_NAMED]
        ]
        more = [f"{len(order) - _NAMED} more"] if len(order) > _NAMED else []
        text = f"Blocks, by noise and cost: {', '.join([*each, *more])}, {took} together"
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
