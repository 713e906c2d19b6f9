"""Which ceilings are shown to hold or to be broken, and at which look."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bystander.design import Ceiling, Comparison, Measure, Record
from bystander.stats import Looks, broken_p, holds_p
from bystander.verdicts.compared.compared import ComparedRecord
from bystander.verdicts.compared.readings import Readings

__all__ = ["CeilingTest", "ceiling_tests"]

Indices = NDArray[np.int64]


@dataclass(frozen=True)
class CeilingTest:
    """One ceiling under one arm, at the look that ended it.

    Attributes
    ----------
    workload, arm : int
        Positions in the study.
    ceiling : Ceiling
    measure : Measure or None
        None where the record has no such measure.
    trials : ndarray of int
        Rows of the record's trials that count, in the order of time.
    beyond : int
        Trials beyond it: those that may be, and those that failed, included.
    failed, unread : int
        Trials that failed; and good ones in which it was not read, which do not count.
    p_holds, p_broken : float
        Exact one-sided p, over all looks; 1 where nothing was tested.
    look : int or None
        The position of the look; None before the first.
    final : bool
        Whether it needs no more trials.
    in_all : pair of int
        Trials beyond it, and those that count, also after the look that decided it; (0, 0) until it is decided.
    """

    workload: int
    arm: int
    ceiling: Ceiling
    measure: Measure | None
    trials: Indices
    beyond: int = 0
    failed: int = 0
    unread: int = 0
    p_holds: float = 1.0
    p_broken: float = 1.0
    look: int | None = None
    final: bool = False
    in_all: tuple[int, int] = (0, 0)


def ceiling_tests(compared: ComparedRecord, looks: Sequence[Looks]) -> tuple[CeilingTest, ...]:
    """Return every ceiling of a record under every arm, each at the first look that decides it at risk / ceilings.

    Parameters
    ----------
    looks : sequence of Looks
        Of each workload; where there is one look only, all trials that there are count at it.
    """
    study = compared.record.head.study
    if not study.ceilings:
        return ()
    places, none = _places(compared.record), np.zeros(0, dtype=np.int64)
    measures = {measure.name: measure for measure in compared.record.head.measures}
    risk = study.risk / len(study.ceilings)
    found = []
    for w, a, ceiling in study.ceilings:
        untested = CeilingTest(w, a, ceiling, measures.get(ceiling.measure), none)
        mine = places.get((w, a), none)
        test = _ended(untested, _at_looks(compared, untested, mine, looks[w]), looks[w], risk)
        found.append(replace(test, in_all=_in_all(compared, test, mine)))
    return tuple(found)


def _in_all(compared: ComparedRecord, test: CeilingTest, mine: Indices) -> tuple[int, int]:
    """Return how many trials are beyond a ceiling, and of how many, also after the look that decided it."""
    if test.measure is None or not mine.size or not test.final:  # before, what was not looked at is not told
        return 0, 0
    readings = compared.readings(test.measure, Comparison(test.arm, test.arm))
    taken = mine[readings.known[mine]]
    beyond = ~readings.good[taken] | (readings.high[taken] > test.ceiling.limit)
    return int(np.count_nonzero(beyond)), int(taken.size)


def _ended(last: CeilingTest, at_looks: Iterator[CeilingTest], looks: Looks, risk: float) -> CeilingTest:
    """Return a ceiling at the first look that decides it, or at the last that was reached."""
    for seen in at_looks:
        last = seen
        if min(seen.p_holds, seen.p_broken) <= risk:
            return replace(seen, final=True)
    return replace(last, final=last.look == len(looks.blocks) - 1)


def _places(record: Record) -> dict[tuple[int, int], Indices]:
    """Return the trials of each workload and arm, by their blocks, which follow each other in time."""
    trials = record.trials
    order = np.lexsort((trials.started_s, trials.block, trials.arm, trials.workload))
    workload, arm = trials.workload[order], trials.arm[order]
    parts = np.split(order, np.flatnonzero(np.diff(workload) | np.diff(arm)) + 1)
    return {(int(trials.workload[part[0]]), int(trials.arm[part[0]])): part for part in parts if part.size}


def _at_looks(compared: ComparedRecord, test: CeilingTest, mine: Indices, looks: Looks) -> Iterator[CeilingTest]:
    """Yield a ceiling as it is seen at each look that its trials reach."""
    if test.measure is None or not mine.size:
        return
    readings = compared.readings(test.measure, Comparison(test.arm, test.arm))
    if len(looks.blocks) == 1:
        yield _seen(readings, test, mine, looks, 0)
        return
    blocks = compared.record.trials.block[mine]
    missing = np.flatnonzero(blocks != np.arange(blocks.size))
    whole = int(missing[0]) if missing.size else blocks.size
    for look, count in enumerate(looks.blocks):
        if count <= whole:
            yield _seen(readings, test, mine[:count], looks, look)


def _seen(readings: Readings, test: CeilingTest, mine: Indices, looks: Looks, look: int) -> CeilingTest:
    """Return how many of these trials are beyond a ceiling, and what that shows."""
    limit, share = test.ceiling.limit, test.ceiling.share
    known = readings.known[mine]
    taken = mine[known]
    failed = ~readings.good[taken]
    may = failed | (readings.high[taken] > limit)
    surely = int(np.count_nonzero(failed | (readings.low[taken] > limit)))
    beyond, n = int(np.count_nonzero(may)), int(taken.size)
    p = np.array([holds_p(beyond, n, share), broken_p(surely, n, share)])
    over = looks.overall_one_sided(look, p).tolist()
    return replace(
        test, trials=taken, beyond=beyond, failed=int(np.count_nonzero(failed)),
        unread=int(mine.size - n), p_holds=over[0], p_broken=over[1], look=look,
    )  # fmt: skip
