"""Before the first block of a chain: the reference is tried against itself, and what could not be seen is refused."""

from __future__ import annotations

from collections.abc import Sequence

from bystander.design import Study
from bystander.errors import UsageError
from bystander.flow.observer import Observer
from bystander.flow.sessions.session import Foresee
from bystander.flow.trials.blocks import trial_blocks
from bystander.flow.trials.trial import TrialRunner
from bystander.foresight import FEWEST_BLOCKS, Tried, links_sentences, outlooks, tried_noise, unseen
from bystander.verdicts import Noise

__all__ = ["foreseen_links"]

_TRYING_S, _MOST_TRIED = 20.0, 20


def foreseen_links(change: float | None, noises: Sequence[Noise] = (), refuse: bool = False) -> Foresee:
    """Return what says which gain of a link could be seen, and warns where that is not the one asked for.

    It is an estimate from few blocks, which may be three times too dark.

    Parameters
    ----------
    change : float or None
        The smallest gain that matters, as a share; the study's margin by default.
    noises : sequence of Noise
        Of an earlier record, so that no blocks need be tried.
    refuse : bool
        Refuse rather than warn.
    """

    def foresee(study: Study, trials: TrialRunner, tried: tuple[Tried, ...], observer: Observer) -> None:
        wanted = change or study.margin
        known = noises
        if not known:
            pair_s = 2 * sum(one.outcome.took_s for one in tried if one.arm == study.reference_at)
            count = min(_MOST_TRIED, max(FEWEST_BLOCKS, int(_TRYING_S / max(pair_s, 1e-3))))
            known = tried_noise(study, trial_blocks(study, trials, tried, count, observer), tried)
        found = outlooks(study, known, wanted)
        if refuse and (problem := unseen(study, found, wanted)):
            raise UsageError(problem)
        for sentence in links_sentences(study, found, wanted):
            observer.remark(sentence)

    return foresee
