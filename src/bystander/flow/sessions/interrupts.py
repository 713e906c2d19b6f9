"""Interrupts that wait for the right moment: a trial that ended is written down before we leave."""

from __future__ import annotations

import os
import signal
from contextlib import suppress
from types import FrameType, TracebackType
from typing import Any

__all__ = ["Interrupts"]

_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class Interrupts:
    """While entered, the signals that ask to stop only make `fd` readable; use as a context.

    Whoever waits for a trial waits for `fd` as well; whoever writes is not disturbed.
    """

    def __init__(self) -> None:
        self.asked = False
        self.fd, self._write = -1, -1
        self._before: dict[int, Any] = {}

    def __enter__(self) -> Interrupts:
        self.fd, self._write = os.pipe2(os.O_CLOEXEC | os.O_NONBLOCK)
        for number in _SIGNALS:
            if signal.getsignal(number) is not signal.SIG_IGN:  # nohup means it
                self._before[number] = signal.signal(number, self._ask)
        return self

    def _ask(self, _number: int, _frame: FrameType | None) -> None:
        self.asked = True
        with suppress(BlockingIOError):  # asked so often that the pipe is full
            os.write(self._write, b"!")

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for number, before in self._before.items():
            signal.signal(number, before)
        os.close(self.fd)
        os.close(self._write)
