"""The search for the commit of a step, as a conversation: it asks for blocks and is given them, fresh or from a record.

Both ends come first, at planned looks; where they are not shown to differ nobody is named. Then probes halve the
posterior over commits (see `stats.bisection`) until one holds 99 % of it, and that one is held against its parent in
fresh blocks, at planned looks. What does not hold there is folded in, and the search goes on. At last what the ends
differ by beside the step that was found is looked for, and where it is shown both halves are searched again.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from bystander.stats import (
    Looks,
    StepPosterior,
    estimates,
    examine,
    failing_step,
    fails_more_p,
    interval,
    planned_looks,
    timed_step,
    walsh_contrasts,
)
from bystander.verdicts.bisected import Answer, Ask, Bisected, Ends, Kind, Outcome, Stage, Step

__all__ = ["MOST_BLOCKS", "PROBE_BLOCKS", "Rules", "bisecting"]

Floats = NDArray[np.float64]
Talk = Generator[Ask, Answer, "Bisected"]
PROBE_BLOCKS, MOST_BLOCKS, MOST_VERIFIED, REMAINDER_BLOCKS = 4, 600, 3, 20
ENOUGH = 0.99
_FEWEST = 6


@dataclass(frozen=True)
class Rules:
    """What is fixed before a search.

    Attributes
    ----------
    risk : float
        Of each test: of the ends, of a verification, of the remainder.
    blocks : int
        Of each test, at most.
    leans : int
        1 or -1 where only a change in that direction is searched for, 0 for any.
    second : bool
        Whether a second step is searched for.
    """

    risk: float = 0.05
    blocks: int = 40
    leans: int = 0
    second: bool = True

    @property
    def looks(self) -> Looks:
        """The looks of each test."""
        return planned_looks(self.blocks, self.risk)


@dataclass
class _Known:
    """What a search knows of commits while it goes on."""

    built: list[int] = field(default_factory=list)
    broken: list[int] = field(default_factory=list)
    blocks: int = 0
    parts: dict[Stage, int] = field(default_factory=dict)
    good_fails: bool = False

    def part(self, stage: Stage) -> int:
        """Return the number of a new run of a stage."""
        self.parts[stage] = self.parts.get(stage, -1) + 1
        return self.parts[stage]


def bisecting(count: int, rules: Rules | None = None) -> Talk:
    """Search for the step among commits 1 to count, of which 0 is the good end and count the bad one.

    Yields what blocks it needs and is sent them; returns what it found. The same answers lead to the same questions, so
    that a search which was interrupted is taken up by telling it again what is kept.
    """
    rules, known = rules or Rules(), _Known()
    known.built = [0, count]
    ends, tested = yield from _ends(0, count, rules, known)
    if ends is None:
        outcome = Outcome.GOOD_FAILS if known.good_fails else Outcome.NO_CHANGE
        return Bisected(outcome, tested_blocks=tested, blocks=known.blocks, tried=tuple(known.built))
    found = yield from _between(ends, rules, known)
    found = replace(found, ends=ends, tested_blocks=tested)
    if found.steps and rules.second and count > 1 and ends.kind is Kind.TIMED:
        found = yield from _second(found, ends, rules, known)
    return replace(
        found, blocks=known.blocks, tried=tuple(sorted(known.built)), broken=tuple(sorted(known.broken))
    )  # fmt: skip


def _asked(known: _Known, ask: Ask, new: int) -> Generator[Ask, Answer, Answer]:
    """Ask for blocks of which so many are new, and keep account of what was built and of what cannot be."""
    answer = yield ask
    if answer.broken is not None:
        known.broken.append(answer.broken)
        return answer
    known.blocks += new
    known.built += [one for one in ask.commits if one not in known.built]
    return answer


def _pair_test(
    good: int, bad: int, stage: Stage, rules: Rules, known: _Known, question: int
) -> Generator[Ask, Answer, tuple[tuple[Kind, Floats, float, int] | None, int, Answer]]:
    """Hold one commit against another at planned looks; return kind, differences, p and look, and blocks."""
    part, looks, had = known.part(stage), rules.looks, 0
    answer = Answer()
    for look, blocks in enumerate(looks.blocks):
        answer = yield from _asked(known, Ask(stage, part, (good, bad), blocks, question), blocks - had)
        if answer.broken is not None:
            return None, had, answer
        had = blocks
        if (shown := _shown(answer, looks, look, rules)) is not None:
            return shown, blocks, answer
    return None, had, answer


def _shown(answer: Answer, looks: Looks, look: int, rules: Rules) -> tuple[Kind, Floats, float, int] | None:
    """Return what a look shows: that the second fails more often, or reads otherwise; None where neither."""
    assert answer.values is not None
    assert answer.failed is not None
    failed = answer.failed
    only_bad, only_good = int((failed[:, 1] & ~failed[:, 0]).sum()), int((failed[:, 0] & ~failed[:, 1]).sum())
    level = float(looks.nominal(look, np.array(rules.risk)))
    fails = float(looks.overall_one_sided(look, np.array(fails_more_p(only_bad, only_good))))
    if only_bad and fails <= rules.risk and rules.leans >= 0:
        return Kind.FAILS, np.zeros(0), fails, look
    differences = answer.values[:, 1] - answer.values[:, 0]
    differences = differences[np.isfinite(differences)]
    if differences.size < _FEWEST:
        return None
    contrasts = walsh_contrasts(differences[None, :], differences[None, :])
    seen = examine(contrasts, np.zeros(1))
    if seen.p[0] > level or (rules.leans and np.sign(seen.estimate[0]) != rules.leans) or not seen.estimate[0]:
        return None
    columns = answer.values[np.isfinite(answer.values).all(axis=1)]
    exact = bool((columns == columns[0]).all()) and not failed.any()
    p = float(looks.overall(look, seen.p)[0])
    return (Kind.EXACT if exact else Kind.TIMED), differences, p, look


def _ends(good: int, bad: int, rules: Rules, known: _Known) -> Generator[Ask, Answer, tuple[Ends | None, int]]:
    shown, blocks, answer = yield from _pair_test(good, bad, Stage.ENDS, rules, known, bad - good)
    if shown is None or answer.broken is not None:
        known.good_fails = answer.failed is not None and bool(answer.failed[:, 0].all())
        return None, blocks
    kind, differences, p, _ = shown
    effect = 0.0
    if kind is not Kind.FAILS:
        effect = float(estimates(walsh_contrasts(differences[None, :], differences[None, :]))[0])
    return Ends(good, bad, kind, effect, differences, p, blocks), blocks


def _between(ends: Ends, rules: Rules, known: _Known) -> Generator[Ask, Answer, Bisected]:
    """Search between two ends; positions in the posterior are counted from the good one."""
    count = ends.bad - ends.good
    posterior = failing_step(count) if ends.kind is Kind.FAILS else timed_step(count, ends.effect, ends.differences)
    part, used, doubted = known.part(Stage.SEARCHED), 0, 0
    lean = replace(rules, leans=-1 if ends.effect < 0 else 1)
    while doubted < MOST_VERIFIED:
        group, used = yield from _narrowed(posterior, ends, known, part, used)
        if group is None:
            return Bisected(Outcome.CANNOT_TELL, remaining=_remaining(posterior, ends, known))
        parent = _tryable_before(group[0], ends, known)
        question = posterior.in_question()
        if ends.kind is Kind.EXACT:
            step, answer = yield from _exact_step(parent, group, known, question)
        else:
            shown, blocks, answer = yield from _pair_test(parent, group[-1], Stage.VERIFIED, lean, known, question)
            step = _step(group, parent, shown, blocks, rules) if shown else None
        if step is not None:
            return Bisected(Outcome.FOUND, steps=(step,))
        if answer.broken is None:
            doubted += 1
            posterior.verified(parent - ends.good, group[-1] - ends.good, _observed(answer, ends.kind))
    return Bisected(Outcome.NO_ANSWER, remaining=_remaining(posterior, ends, known))


def _exact_step(
    parent: int, group: tuple[int, ...], known: _Known, question: int
) -> Generator[Ask, Answer, tuple[Step | None, Answer]]:
    """Hold a commit against its parent once: readings repeat exactly."""
    ask = Ask(Stage.VERIFIED, known.part(Stage.VERIFIED), (parent, group[-1]), 1, question)
    answer = yield from _asked(known, ask, 1)
    difference = 0.0 if answer.broken is not None else next(iter(_observed(answer, Kind.EXACT)), 0.0)
    if not difference:
        return None, answer
    return Step(group, parent, Kind.EXACT, difference, difference, difference, math.nan, 1), answer


def _narrowed(
    posterior: StepPosterior, ends: Ends, known: _Known, part: int, used: int
) -> Generator[Ask, Answer, tuple[tuple[int, ...] | None, int]]:
    """Probe until one commit, with those that cannot be tried before it, holds nearly all of the posterior."""
    each = 1 if ends.kind is Kind.EXACT else PROBE_BLOCKS
    while used < MOST_BLOCKS:
        groups = _groups(ends, known)
        shares = posterior.shares
        masses = [float(shares[[c - ends.good - 1 for c in group]].sum()) for group in groups]
        best = int(np.argmax(masses))
        if masses[best] >= ENOUGH or len(groups) == 1:
            return groups[best], used
        candidates = [group[-1] - ends.good for group in groups[:-1]]
        built = [commit - ends.good for commit in known.built if ends.good < commit < ends.bad]
        probe = posterior.probe(candidates, built)
        if probe is None:
            return groups[best], used
        commit = probe + ends.good
        pair = (ends.good, commit)
        ask = Ask(Stage.SEARCHED, part, pair, each, posterior.in_question(), used)
        answer = yield from _asked(known, ask, each)
        if answer.broken is not None:
            continue
        used += each
        assert answer.failed is not None
        if ends.kind is not Kind.FAILS and answer.failed[:, 1].all():
            known.broken.append(commit)  # it cannot be timed: it counts with the next that can
            known.built.remove(commit)
            continue
        posterior.probed(probe, _exactly(answer, ends) if ends.kind is Kind.EXACT else _observed(answer, ends.kind))
    return None, used


def _observed(answer: Answer, kind: Kind) -> list[float]:
    """Return what a block tells: its difference, or whether the second trial failed."""
    assert answer.values is not None
    assert answer.failed is not None
    if kind is Kind.FAILS:
        return [float(one) for one in answer.failed[:, 1]]
    differences = answer.values[:, 1] - answer.values[:, 0]
    found: list[float] = differences[np.isfinite(differences)].tolist()
    return found


def _exactly(answer: Answer, ends: Ends) -> list[float]:
    """Return a reading that repeats exactly as if it had been seen often enough to leave no doubt.

    It counts with the end that it is nearer to: between two steps lies a third value.
    """
    (difference,) = _observed(answer, Kind.TIMED) or [0.0]
    return [ends.effect if abs(difference - ends.effect) < abs(difference) else 0.0] * 8


def _groups(ends: Ends, known: _Known) -> list[tuple[int, ...]]:
    """Return the commits between two ends, each that can be tried with those before it that cannot."""
    groups, waiting = [], []
    for commit in range(ends.good + 1, ends.bad + 1):
        waiting.append(commit)
        if commit not in known.broken:
            groups.append(tuple(waiting))
            waiting = []
    return groups


def _tryable_before(commit: int, ends: Ends, known: _Known) -> int:
    return next(one for one in range(commit - 1, ends.good - 1, -1) if one not in known.broken)


def _remaining(posterior: StepPosterior, ends: Ends, known: _Known) -> tuple[int, ...]:
    """Return the commits that hold 95 % of the posterior, the fewest that do, in their order."""
    shares = posterior.shares
    order = np.argsort(-shares, kind="stable")
    needed = int(np.searchsorted(np.cumsum(shares[order]), 0.95)) + 1
    kept = {int(i) + 1 + ends.good for i in order[:needed]}
    for group in _groups(ends, known):
        if kept & set(group):
            kept |= set(group)
    return tuple(sorted(kept))


def _step(
    group: tuple[int, ...], parent: int, shown: tuple[Kind, Floats, float, int], blocks: int, rules: Rules
) -> Step:  # fmt: skip
    kind, differences, p, look = shown
    if kind is Kind.FAILS:
        return Step(group, parent, kind, math.nan, -math.inf, math.inf, p, blocks)
    contrasts = walsh_contrasts(differences[None, :], differences[None, :])
    level = rules.looks.nominal(look, np.array([rules.risk]))
    low, high = interval(contrasts, level)
    return Step(group, parent, kind, float(estimates(contrasts)[0]), float(low[0]), float(high[0]), p, blocks)


def _second(found: Bisected, ends: Ends, rules: Rules, known: _Known) -> Generator[Ask, Answer, Bisected]:
    """Look for what is left beside the step that was found; where it is shown, search both halves."""
    (step,) = found.steps
    commits = tuple(dict.fromkeys((ends.good, step.parent, step.commits[-1], ends.bad)))
    if len(commits) == 2:
        return found  # the step is the whole
    part = known.part(Stage.REMAINDER)
    answer = yield from _asked(known, Ask(Stage.REMAINDER, part, commits, REMAINDER_BLOCKS, 1), REMAINDER_BLOCKS)
    assert answer.values is not None
    at = {commit: answer.values[:, place] for place, commit in enumerate(commits)}
    rest = (at[ends.bad] - at[ends.good]) - (at[step.commits[-1]] - at[step.parent])
    rest = rest[np.isfinite(rest)]
    if rest.size < _FEWEST:
        return found
    seen = examine(walsh_contrasts(rest[None, :], rest[None, :]), np.zeros(1))
    found = replace(found, remainder=float(seen.estimate[0]), remainder_p=float(seen.p[0]))
    if seen.p[0] > rules.risk:
        return found
    steps = [step]
    for good, bad in ((ends.good, step.parent), (step.commits[-1], ends.bad)):
        if bad <= good:
            continue
        half, _ = yield from _ends(good, bad, rules, known)
        if half is not None:
            more = yield from _between(half, rules, known)
            steps += more.steps
    return replace(found, steps=tuple(sorted(steps, key=lambda one: one.commits)))
