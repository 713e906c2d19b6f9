"""The machine while trials ran: stretches between two readings of its counters, and what changed among them."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

from bystander.design.records.facts import MachineState

__all__ = ["Stretch", "state_changes", "stretches"]

_FEWEST = 4  # stretches, before anything is said of a change among them
_TIMES, _POINTS = 2.0, 0.10  # a share that doubles, and rises by so much
_SLOWED = 0.9
_CALM = 0.1  # the share of stretches that others are compared with
_NAMED = 3


@dataclass(frozen=True)
class Stretch:
    """Some rounds of blocks; NaN where something could not be read.

    Attributes
    ----------
    first, last : int
        The first and last block of each workload in it.
    stalled, disk_stalled : float
        Share of its time in which some program waited for a processor, or for the disk.
    stolen : float
        Share of the processors' time that other virtual machines took.
    frequency_hz : float
        Mean over processors, at its end.
    heat_slowdowns : float
        How often a processor was slowed down for heat in it.
    on_mains : bool or None
    """

    first: int
    last: int
    stalled: float
    disk_stalled: float
    stolen: float
    frequency_hz: float
    heat_slowdowns: float
    on_mains: bool | None


def _number(value: float | None) -> float:
    return math.nan if value is None else float(value)


def stretches(states: Sequence[MachineState]) -> tuple[Stretch, ...]:
    """Return the stretches between readings that follow one another in one session.

    Parameters
    ----------
    states : sequence of MachineState
        Each with its session, and with its first and last block where blocks ran before it.
    """
    found = []
    for before, after in pairwise(states):
        first, last = after.first_block, after.last_block
        if before.session == after.session and first is not None and last is not None and 0 <= first <= last:
            found.append(_stretch(before, after, first, last))
    return tuple(found)


def _stretch(before: MachineState, after: MachineState, first: int, last: int) -> Stretch:
    def grown(name: str) -> float:
        return _number(getattr(after, name)) - _number(getattr(before, name))

    def share(name: str, of: str) -> float:
        whole = grown(of)
        return min(1.0, max(0.0, grown(name) / whole)) if whole > 0 else math.nan

    return Stretch(
        first, last, share("stalled_s", "monotonic_s"), share("disk_stalled_s", "monotonic_s"),
        share("stolen_s", "processors_s"), _number(after.frequency_hz), grown("heat_slowdowns"),
        after.on_mains,
    )  # fmt: skip


def state_changes(found: Sequence[Stretch]) -> list[str]:
    """Say what changed on the machine in the middle of an observation, and in which blocks, one sentence each.

    A share is compared with that of the calmest tenth of the stretches, so that a change is seen
    whether it lasted for a moment or for most of the time.
    """
    if len(found) < _FEWEST:
        return []
    changes = [
        _rise(found, lambda s: s.stalled, "programs waited for a processor"),
        _rise(found, lambda s: s.disk_stalled, "programs waited for the disk"),
        _rise(found, lambda s: s.stolen, "processors were taken by other virtual machines"),
        _slower(found),
        _blocks_where(found, lambda s: s.heat_slowdowns > 0, "the processor was slowed down for heat"),
    ]
    if len({s.on_mains for s in found}) > 1:
        changes.append(_blocks_where(found, lambda s: s.on_mains is False, "the machine ran on its battery"))
    return [sentence for sentence in changes if sentence]


def _quantile(values: Iterable[float], share: float) -> float:
    known = sorted(value for value in values if not math.isnan(value))
    return known[min(len(known) - 1, int(share * (len(known) - 1) + 0.5))] if known else math.nan


def _rise(found: Sequence[Stretch], of: Callable[[Stretch], float], what: str) -> str:
    calm = _quantile(map(of, found), _CALM)
    busy = [s for s in found if of(s) >= _TIMES * calm and of(s) >= calm + _POINTS]
    if not busy:
        return ""
    most = max(of(s) for s in busy)
    return f"{_when(found, busy)}, {what} up to {most:.0%} of the time; in calm ones {calm:.0%}.".replace("%", " %")


def _slower(found: Sequence[Stretch]) -> str:
    fast = _quantile((s.frequency_hz for s in found), 1 - _CALM)
    slow = [s for s in found if s.frequency_hz < _SLOWED * fast]
    if not slow:
        return ""
    least = min(s.frequency_hz for s in slow)
    return (
        f"{_when(found, slow)}, processors ran at down to {least / 1e9:.1f} GHz; at other times {fast / 1e9:.1f} GHz."
    )


def _blocks_where(found: Sequence[Stretch], holds: Callable[[Stretch], bool], what: str) -> str:
    those = [s for s in found if holds(s)]
    return f"{_when(found, those)}, {what}." if those else ""


def _when(found: Sequence[Stretch], those: Sequence[Stretch]) -> str:
    """Return "In blocks 3 to 9 and 14 to 17": neighbours are one."""
    runs: list[list[int]] = []
    places = {id(s): i for i, s in enumerate(found)}
    for s in those:
        i = places[id(s)]
        if runs and runs[-1][2] == i - 1:
            runs[-1][1:] = [s.last, i]
        else:
            runs.append([s.first, s.last, i])
    texts = [f"{first} to {last}" if last > first else str(first) for first, last, _ in runs]
    rest = len(texts) - _NAMED
    if rest > 0:
        texts = [*texts[:_NAMED], f"{rest} more stretches" if rest > 1 else texts[_NAMED]]
    blocks = texts[0] if len(texts) == 1 else f"{', '.join(texts[:-1])} and {texts[-1]}"
    return f"In block{'' if blocks.isdigit() else 's'} {blocks}"
