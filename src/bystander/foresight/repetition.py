"""Where repetition pays: more samples within a trial of a callable, more trials, or shorter ones."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from bystander.design import Status, Study, TimedCallable
from bystander.foresight.tried import TrialBlock, Tried
from bystander.stats import levels, samples_that_pay, warm_from
from bystander.units import duration_text, share_text

__all__ = ["long_trials", "repetition_advice"]

_FEWEST_SAMPLES = 5  # that a study may ask for
_LONG_S = 5.0
_WORTH = 0.3  # share of the time that another choice must save before it is advised


def repetition_advice(study: Study, blocks: Sequence[TrialBlock]) -> list[str]:
    """Return a sentence for each callable whose trials take many more samples than pay.

    Parameters
    ----------
    blocks : sequence of TrialBlock
        In which the reference ran twice.
    """
    found = []
    for w, workload in enumerate(study.workloads):
        mine = [block for block in blocks if block.workload == w and _sampled(block)]
        if not isinstance(workload.what, TimedCallable) or len(mine) < 3:
            continue
        timed = workload.what
        cold = max(warm_from(np.array(one.samples["elapsed"])) for block in mine for one in block.twins)
        sides = [np.log([block.twins[k].samples["elapsed"][cold:] for block in mine]) for k in (0, 1)]
        outcomes = [one for block in mine for one in block.twins]
        sample_s = float(np.median([np.median(one.samples["elapsed"]) for one in outcomes])) * timed.iterations
        trial_s = float(np.median([one.took_s for one in outcomes])) - (timed.samples - cold) * sample_s
        seen, now = levels(sides[0], sides[1]), timed.samples - cold
        pays, saving = samples_that_pay(seen, max(trial_s, 0.0), sample_s, now)
        asked = max(_FEWEST_SAMPLES, pays + cold)
        if saving < _WORTH or asked >= timed.samples:
            continue
        took = trial_s + now * sample_s
        more = round(study.planned_blocks[w] * took / (trial_s + (asked - cold) * sample_s))
        found.append(
            f"{workload.name}: samples of one trial scatter by {share_text(seen.within, 2)}, trials from each other by "
            f"{share_text(seen.between, 2)}. samples = {asked} with blocks = {more} would take as long and show "
            "smaller changes."
        )
    return found


def long_trials(study: Study, tried: Sequence[Tried]) -> list[str]:
    """Return a sentence on commands whose trials are so long that shorter ones, more often, would show more.

    Four trials in one, in a quarter of the blocks, take as long and show changes 2.9 times as large
    (docs/less-noise.md): what drifts from one trial to the next is taken away the better, the shorter a block is.
    """
    if not study.comparisons:
        return []
    long = [one for one in tried if one.well and one.outcome.took_s > _LONG_S]
    sampled = [one for one in long if one.outcome.samples]
    sentences = [_long_callable(study, one) for one in sampled if one.arm == study.reference_at]
    names = dict.fromkeys(study.workloads[one.workload].name for one in long if one not in sampled)
    if not names:
        return [sentence for sentence in sentences if sentence]
    return [
        *(sentence for sentence in sentences if sentence),
        f"Trials of {', '.join(names)} are long. An input of a quarter, in four times the blocks, takes as long and "
        "shows smaller changes, where it stands for the same use.",
    ]


def _long_callable(study: Study, one: Tried) -> str:
    """Return what fewer samples save of a trial's real length, which is that of all its samples; "" for little."""
    workload = study.workloads[one.workload]
    elapsed, iterations = one.outcome.samples.get("elapsed", ()), one.outcome.harness.get("iterations", 1.0)
    if not elapsed or len(elapsed) <= _FEWEST_SAMPLES:
        return ""
    sample_s = float(np.median(elapsed)) * iterations
    saving = (len(elapsed) - _FEWEST_SAMPLES) * sample_s / one.outcome.took_s
    if saving < _WORTH:
        return ""
    return (
        f"A trial of {workload.name} takes {duration_text(one.outcome.took_s, 2)}: {len(elapsed)} samples of "
        f"{duration_text(sample_s, 2)}. samples = {_FEWEST_SAMPLES} saves {share_text(saving)}."
    )


def _sampled(block: TrialBlock) -> bool:
    """Whether both trials ended well, with as many samples and all of them above zero."""
    samples = [one.samples.get("elapsed", ()) for one in block.twins if one.status is Status.OK]
    return len(samples) == 2 and len(samples[0]) == len(samples[1]) > 5 and min(map(min, samples)) > 0
