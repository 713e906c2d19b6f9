"""The machine is looked at between rounds while trials run, so that a change in the middle is seen."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Protocol

from bystander.design import MachineState

__all__ = ["MachineWatch"]

_STRETCH_S = 5.0  # shorter stretches would tell of single trials


class _Keeps(Protocol):
    def machine_state(self, state: MachineState) -> None: ...


class MachineWatch:
    """Writes down the machine's state at the start and after every few whole rounds.

    Parameters
    ----------
    read : callable
        Returns the state, see `field.machine_state`.
    writer
        Keeps it.
    clock : callable
        Returns seconds.
    """

    def __init__(
        self,
        read: Callable[[], MachineState],
        writer: _Keeps,
        stretch_s: float = _STRETCH_S,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._read = read
        self._writer = writer
        self._stretch_s = stretch_s
        self._clock = clock
        self._first: int | None = None
        self._last = -1
        self._begun = self._clock()
        writer.machine_state(read())

    def next_block(self, number: int) -> None:
        """Take note of the block that begins now; a new number is a new round."""
        if self._first is not None and number != self._last and self._clock() - self._begun >= self._stretch_s:
            self._end_stretch()
        if self._first is None:
            self._first = number
        self._last = number

    def close(self) -> None:
        """End the last stretch, unless it is too short to tell of anything."""
        if self._first is not None and self._clock() - self._begun >= self._stretch_s / 2:
            self._end_stretch()

    def _end_stretch(self) -> None:
        self._writer.machine_state(replace(self._read(), first_block=self._first, last_block=self._last))
        self._first, self._begun = None, self._clock()
