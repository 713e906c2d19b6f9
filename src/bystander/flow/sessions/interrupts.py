"""Interrupts that wait for the right moment: a trial that ended is written down before we leave.

Asked twice, nothing is waited for: whatever hangs, all trials are ended and the program leaves at once.
"""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from types import FrameType, TracebackType
from typing import Any

__all__ = ["Interrupts"]

_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
_APART_S = 0.25  # one key may arrive twice, once from the terminal and once from a program around us
_INTERRUPTED = 130
_SHOW_CURSOR = b"\x1b[?25h"
_AT_ONCE = b"bystander: interrupted twice: everything was ended at once; what had ended by then is kept\n"


class Interrupts:
    """While entered, the signals that ask to stop only make `fd` readable; use as a context.

    Whoever waits for a trial waits for `fd` as well; whoever writes is not disturbed.

    Attributes
    ----------
    asked : bool
        Whether the user asked to stop.
    continued : int
        How often this process was stopped (SIGSTOP, Ctrl-Z) and goes on.
    at_once : callable or None
        Ends everything that runs, when SIGINT came twice; from another thread.
    """

    def __init__(self) -> None:
        self.asked = False
        self.continued = 0
        self.at_once: Callable[[], None] | None = None
        self.fd, self._write = -1, -1
        self._before: dict[int, Any] = {}
        self._wake: tuple[int, int, int] | None = None

    def __enter__(self) -> Interrupts:
        self.fd, self._write = os.pipe2(os.O_CLOEXEC | os.O_NONBLOCK)
        for number in _SIGNALS:
            if signal.getsignal(number) is not signal.SIG_IGN:  # nohup means it
                self._before[number] = signal.signal(number, self._ask)
        self._before[signal.SIGCONT] = signal.signal(signal.SIGCONT, self._go_on)
        self._listen()
        return self

    def _ask(self, _number: int, _frame: FrameType | None) -> None:
        self.asked = True
        with suppress(BlockingIOError):  # asked so often that the pipe is full
            os.write(self._write, b"!")

    def _go_on(self, _number: int, _frame: FrameType | None) -> None:
        self.continued += 1

    def _listen(self) -> None:
        """Have a thread read the signals' numbers: it is told even where the main thread hangs in a library."""
        read, write = os.pipe2(os.O_CLOEXEC)
        os.set_blocking(write, False)
        self._wake = read, write, signal.set_wakeup_fd(write, warn_on_full_buffer=False)
        threading.Thread(target=self._watch, args=(read,), name="interrupts", daemon=True).start()

    def _watch(self, read: int) -> None:
        first = 0.0
        while numbers := os.read(read, 64):
            for number in numbers:
                if number != signal.SIGINT:
                    continue
                now = time.monotonic()
                if first and now - first > _APART_S:
                    self._leave()
                first = first or now
        os.close(read)

    def _leave(self) -> None:
        """End everything and leave, whatever the main thread does."""
        with suppress(Exception):
            if self.at_once:
                self.at_once()
        with suppress(OSError):
            os.write(2, (_SHOW_CURSOR if os.isatty(2) else b"") + _AT_ONCE)
        os._exit(_INTERRUPTED)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for number, before in self._before.items():
            signal.signal(number, before)
        if self._wake:
            _, write, before_fd = self._wake
            signal.set_wakeup_fd(before_fd)
            os.close(write)  # by that the thread ends
        os.close(self.fd)
        os.close(self._write)
