"""The launcher's process: asked for trials over a pipe, watched while it works, ended by force where it does not."""

from __future__ import annotations

import json
import os
import select
import subprocess
import sys
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from bystander.errors import LauncherError
from bystander.field.launching.containment import ControlGroup, Orphans, end_process, state_of

__all__ = ["LauncherLostError", "Service"]

_PROGRAM = Path(__file__).parents[1] / "inside" / "launcher.py"
_STOPPED = ("T", "t")  # by a signal; by whoever traces it
_TERMINATED = 128 + 15
_MOST_SAID = 2**20  # bytes of one answer
_LOOK_S = 0.5
_START_S = 30.0
_GRACE_S = 10.0  # over a trial's limit, in which a launcher that lives ends the whole tree


class LauncherLostError(Exception):
    """The launcher was killed, stopped or traced while a trial ran; the message says which, as a clause."""


class Service:
    """One process of the launcher.

    Parameters
    ----------
    printed : (int, int)
        Descriptors of the files that take what a trial prints: output and errors.
    lock : int or None
        The descriptor of the machine lock, which the launcher holds too.
    interrupts : int or None
        A descriptor that becomes readable when the user asks to stop.

    Raises
    ------
    LauncherError
        When it does not start.
    """

    def __init__(self, printed: tuple[int, int], lock: int | None, interrupts: int | None, orphans: Orphans) -> None:
        self._interrupts = interrupts
        self._orphans = orphans
        self._group = ControlGroup()
        self._pending, self._number = b"", 0
        given = [*printed, *(() if lock is None else (lock,))]
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-I", "-S", str(_PROGRAM), *map(str, given)],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, pass_fds=given, cwd="/", start_new_session=True,
                stderr=None if os.environ.get("BYSTANDER_TRACEBACK") == "launcher" else subprocess.DEVNULL, bufsize=0,
            )  # fmt: skip
        except OSError as error:
            raise LauncherError(f"the launcher cannot be started: {error.strerror}") from error
        assert self._process.stdin
        assert self._process.stdout
        self._ask, self._told = self._process.stdin.fileno(), self._process.stdout.fileno()
        os.set_blocking(self._ask, False)
        self.process_id = self._process.pid
        try:
            self.answer(_START_S)
        except LauncherLostError as error:
            self.end_by_force()
            raise LauncherError(f"the launcher does not start: {error}") from None
        except BaseException:
            self.close()
            raise
        self._group.hold(self.process_id)

    @property
    def fd(self) -> int:
        """A descriptor that becomes readable when it says something."""
        return self._told

    def ask(self, request: Mapping[str, Any]) -> None:
        """Send a request; one with an `argv` begins a trial, and its answers are told by its number."""
        self._number += "argv" in request
        data = json.dumps({**request, "number": self._number}).encode() + b"\n"
        was_stopped = False
        while data:
            try:
                data = data[os.write(self._ask, data) :]
            except BlockingIOError:  # a request may be longer than a pipe, and the launcher stopped
                select.select([], [self._ask], [], _LOOK_S)
                was_stopped = self._still_works(was_stopped)
            except OSError:
                raise LauncherLostError(self._how_it_ended()) from None

    def answer(self, limit_s: float) -> dict[str, Any]:
        """Return the next answer.

        Parameters
        ----------
        limit_s : float
            How long it may take; some seconds more are given to end what runs.

        Raises
        ------
        LauncherLostError
            When none comes: it was killed, is stopped or traced, or says nothing.
        KeyboardInterrupt
            When the user asked to stop first.
        """
        stop, was_stopped = time.monotonic() + limit_s + _GRACE_S, False
        waited = [self._told, *(() if self._interrupts is None else (self._interrupts,))]
        while b"\n" not in self._pending:
            ready = select.select(waited, [], [], _LOOK_S)[0]
            if self._told in ready:
                self._read()
            elif ready:
                raise KeyboardInterrupt
            else:
                was_stopped = self._still_works(was_stopped)
                if time.monotonic() > stop:
                    raise LauncherLostError("did not answer")
        line, self._pending = self._pending.split(b"\n", 1)
        try:
            answer = json.loads(line)
        except ValueError:
            raise LauncherLostError("said something that is no account") from None
        if not isinstance(answer, dict) or answer.get("number") != self._number:
            raise LauncherLostError("said something that is no account")
        return answer

    def _read(self) -> None:
        data = os.read(self._told, 1 << 16)
        if not data:
            raise LauncherLostError(self._how_it_ended())
        self._pending += data
        if len(self._pending) > _MOST_SAID:
            raise LauncherLostError("said something that is no account")

    def _how_it_ended(self) -> str:
        try:
            code = self._process.wait(_LOOK_S)
        except subprocess.TimeoutExpired:  # whoever traces it has its end first
            return "was killed" if state_of(self.process_id) == "Z" else "closed its pipe"
        return "was killed" if code < 0 or code == _TERMINATED else "failed"

    def _still_works(self, was_stopped: bool) -> bool:
        """Whether it is stopped just now; raise when it was a moment ago too."""
        state = state_of(self.process_id)
        if state in _STOPPED and was_stopped:
            raise LauncherLostError("was stopped" if state == "T" else "was traced")
        return state in _STOPPED

    def works(self) -> None:
        """Raise LauncherLostError where it is stopped or traced."""
        if self._still_works(False):
            time.sleep(_LOOK_S)
            self._still_works(True)

    def close(self) -> None:
        """Close the control pipe, which makes the launcher end what runs; wait, and insist."""
        with suppress(OSError):
            assert self._process.stdin
            self._process.stdin.close()
        stop = time.monotonic() + _GRACE_S
        while time.monotonic() < stop:
            with suppress(subprocess.TimeoutExpired):
                self._process.wait(_LOOK_S)
                break
            if state_of(self.process_id) in _STOPPED:
                break
        self.end_by_force()

    def end_by_force(self) -> int:
        """End the launcher, where it still lives, and all that it started; return how many processes that were."""
        known: Sequence[int] = ()
        if alive := self._process.poll() is None:
            known = end_process(self.process_id)
        self._group.kill()
        # Before it is waited for: one that traces it would have its end first, and keep it.
        ended = self._orphans.end(list(known)) if alive or self._process.returncode else 0
        with suppress(subprocess.TimeoutExpired):
            self._process.wait(_GRACE_S)
        self._group.close()
        for pipe in (self._process.stdin, self._process.stdout):
            with suppress(OSError):
                if pipe:
                    pipe.close()
        return ended

    def kill_at_once(self) -> None:
        """End everything without a further word, from whichever thread; the caller leaves."""
        known = end_process(self.process_id)
        self._group.kill()
        self._orphans.end(known)
