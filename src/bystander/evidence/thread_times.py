"""How long a thread ran and waited where, from readings of where it was and exact times of when it did what.

Time on a processor belongs to the readings taken while it ran: each stands for the CPU time up to half the way to the
next one. A wait belongs to the reading that fell into it, since a thread that waits stands still; one into which none
fell belongs to the nearest other wait that was seen.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bystander.design import BLOCKED, ENDED, QUEUED, RUNNING

__all__ = ["ThreadTimes", "thread_times"]

_LATE_NS = 200_000  # of CPU time between tick and reading: beyond, the place is another one
Whole = NDArray[np.int64]


@dataclass(frozen=True)
class ThreadTimes:
    """One thread.

    Attributes
    ----------
    begin, end, state : array of int
        Its stretches, in ns, one after another.
    ran : array of int
        How long it had run at the beginning of each.
    readings : array of int
        Positions of its readings among all, by time.
    from_ns, to_ns : array of int
        The stretch of CPU time that each of these stands for; from 0.
    good : array of int
        Those that stand for any, as positions in `readings`: their stretches follow one another.
    queued, waiting : array of int
        The time in the queue, and of waits, that each stands for.
    of_stretch : array of int
        For each stretch that is a wait the reading that it belongs to; -1 for none, and for others.
    """

    begin: Whole
    end: Whole
    state: Whole
    ran: Whole
    readings: Whole
    from_ns: Whole
    to_ns: Whole
    good: Whole
    queued: Whole
    waiting: Whole
    of_stretch: Whole

    def ran_at(self, at: NDArray[np.int64] | int) -> NDArray[np.float64]:
        """Return how long it had run at some moments."""
        if not self.begin.size:
            return np.zeros(np.shape(at))
        knots = np.append(self.begin, self.end[-1])
        run = np.append(self.ran, self.ran[-1] + (self.state[-1] == RUNNING) * (self.end[-1] - self.begin[-1]))
        return np.asarray(np.interp(at, knots, run))


def thread_times(
    switch_ns: Whole, switch_state: Whole, ended_ns: int, readings: Whole, at_ns: Whole, tick_ns: Whole
) -> ThreadTimes:
    """Return what a thread did.

    Parameters
    ----------
    switch_ns, switch_state : array of int
        From when on it did what, by time.
    ended_ns : int
        When it ended, or the trial did.
    readings, at_ns, tick_ns : array of int
        Its readings by time: their positions among all, when they were taken, and the tick that each answers, or 0.
    """
    begin, state = switch_ns, switch_state
    end = np.append(begin[1:], max(ended_ns, int(begin[-1]) if begin.size else 0))
    kept = (state != ENDED) & (end > begin)
    begin, end, state = begin[kept], end[kept], state[kept]
    lengths = end - begin
    running = np.where(state == RUNNING, lengths, 0)
    ran = np.cumsum(running) - running
    nothing = np.zeros(readings.size, dtype=np.int64)
    of_stretch = np.full(begin.size, -1, dtype=np.int64)
    made = ThreadTimes(begin, end, state, ran, readings, nothing, nothing, nothing[:0], nothing, nothing, of_stretch)
    if not readings.size or not begin.size:
        return made
    doing = state[np.clip(np.searchsorted(begin, at_ns, "right") - 1, 0, begin.size - 1)]
    used = made.ran_at(at_ns)
    late = (tick_ns > 0) & (used - made.ran_at(tick_ns) > _LATE_NS)
    from_ns, to_ns, good = _parts((doing != BLOCKED) & ~late, used, int(running.sum()))
    of_stretch = _of_waits(begin, end, state, doing == BLOCKED, at_ns)
    of_queue = _nearest(at_ns, begin, end, doing != BLOCKED)
    queued = _summed(of_queue, lengths, state == QUEUED, readings.size)
    waiting = _summed(of_stretch, lengths, of_stretch >= 0, readings.size)
    return ThreadTimes(begin, end, state, ran, readings, from_ns, to_ns, good, queued, waiting, of_stretch)


def _parts(good: NDArray[np.bool_], used: NDArray[np.float64], total: int) -> tuple[Whole, Whole, Whole]:
    """Return the stretch of CPU time that each reading stands for, nothing for one that is no good; and which are."""
    if not good.any():
        good = np.ones_like(good)
    at = used[good]
    half = np.concatenate(([0.0], (at[1:] + at[:-1]) / 2, [total])).astype(np.int64)
    low, high = (np.zeros(good.size, dtype=np.int64) for _ in range(2))
    low[good], high[good] = half[:-1], half[1:]
    return low, high, np.flatnonzero(good)


def _of_waits(begin: Whole, end: Whole, state: Whole, waits: NDArray[np.bool_], at_ns: Whole) -> Whole:
    """Return for each wait the reading that it belongs to, -1 for what is no wait."""
    last = np.searchsorted(at_ns, end, "left") - 1
    inside = (last >= 0) & (at_ns[np.clip(last, 0, None)] >= begin)
    found = np.where(inside, last, _nearest(at_ns, begin, end, waits))
    return np.where(state == BLOCKED, found, -1)


def _nearest(at_ns: Whole, begin: Whole, end: Whole, good: NDArray[np.bool_]) -> Whole:
    """Return for each stretch the nearest good reading; any reading where there is no good one."""
    places = np.flatnonzero(good) if good.any() else np.arange(at_ns.size)
    times = at_ns[places]
    bounds = (times[1:] + times[:-1]) / 2
    return np.asarray(places[np.searchsorted(bounds, (begin + end) / 2)])


def _summed(of: Whole, lengths: Whole, which: NDArray[np.bool_], count: int) -> Whole:
    return np.bincount(of[which], lengths[which], count).astype(np.int64)
