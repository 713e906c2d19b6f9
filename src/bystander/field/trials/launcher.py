"""Bystander's end of the launcher: asks for one trial at a time and turns the account into readings."""

from __future__ import annotations

import hashlib
import json
import math
import os
import select
import shutil
import time
from collections.abc import Sequence
from contextlib import ExitStack, suppress
from dataclasses import replace
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol

from bystander.design import UNTIL_OUTPUT, UNTIL_READY, Status, TrialOutcome, told_measure
from bystander.errors import LauncherError
from bystander.field.launching.account import account_readings, checked_account
from bystander.field.launching.containment import Orphans
from bystander.field.launching.leavings import LeftError, read_left, said_of
from bystander.field.launching.masking import masked
from bystander.field.launching.scratch import remove_leftovers, require_space, scratch_folder
from bystander.field.launching.service import LauncherLostError, Service
from bystander.field.trials.commands import ReadyCommand

__all__ = ["Launcher", "Watches"]

RESULTS, MARKS = "BYSTANDER_RESULTS", "BYSTANDER_MARKS"
_TOLD = ("marks", "results")

_STATUS = {
    "ok": Status.OK,
    "exit": Status.EXIT,
    "signal": Status.SIGNAL,
    "cut": Status.CUT,
    "not-started": Status.NOT_STARTED,
    "flood": Status.FLOOD,
    "taken": Status.NOT_STARTED,  # what shows that it is ready is there before it begins
    "unready": Status.INVALID,
    "abort": Status.INVALID,  # it was watched, and somebody asked to stop
}
_EXCERPT_BYTES = 2000
_MOST_RESULTS = 64 * 2**20  # of what the harness of a callable writes down: a million samples of twenty digits, twice
_FLAGS = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_LOOK_S = 0.5
_STARTS = 4
_HOLD_S = 30.0  # until the stub of a watched trial stands before its program


class Watches(Protocol):
    """What watches a trial while it runs."""

    @property
    def fds(self) -> list[int]:
        """Descriptors that become readable when there is something to do; not before `attach`."""

    @property
    def wait_ms(self) -> float:
        """How long to wait for them, at most."""

    def attach(self, process: int) -> None:
        """Begin with a process that waits to become the program."""

    def step(self) -> None:
        """Do what there is to do."""

    def ended(self) -> None:
        """The trial is over."""


class Launcher:
    """Starts trials through a small process of its own; use it as a context.

    Parameters
    ----------
    lock : int or None
        The descriptor of the machine lock, which the launcher holds too.
    interrupts : int or None
        A descriptor that becomes readable when the user asks to stop. A trial that has ended by then is
        returned all the same.

    A trial that takes its launcher along, stops it or removes its scratch fails, with the reason; everything that it
    started is ended, and the next trial has a new launcher.
    """

    def __init__(self, lock: int | None = None, interrupts: int | None = None) -> None:
        self._lock = lock
        self._interrupts = interrupts
        self._stack = ExitStack()
        self._service: Service | None = None

    def __enter__(self) -> Launcher:
        with ExitStack() as stack:
            remove_leftovers()
            self._orphans = stack.enter_context(Orphans().adopted())
            self._begin()
            stack.callback(self._end)
            self._stack = stack.pop_all()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stack.close()

    def _begin(self) -> None:
        """Make a scratch folder, open what trials print into, and start the process."""
        with ExitStack() as stack:
            self._scratch = stack.enter_context(scratch_folder())
            self.output, self.errors = (self._scratch / name for name in ("output", "errors"))
            told = self._scratch / "told"  # trials know this folder, and no other
            told.mkdir(0o700)
            self._told, (self.marks, self._results) = str(told), (told / name for name in _TOLD)
            self._printed = tuple(os.open(path, _FLAGS, 0o600) for path in (self.output, self.errors))
            for fd in self._printed:
                stack.callback(os.close, fd)
            self._identities = {
                str(path): (state.st_dev, state.st_ino)
                for path, state in zip((self.output, self.errors), map(os.fstat, self._printed), strict=True)
            }
            self._service = self._started((self._printed[0], self._printed[1]))
            self._held = stack.pop_all()

    def _started(self, printed: tuple[int, int]) -> Service:
        """Return a process that is ready; one that is killed while it starts is no reason to give up."""
        for _ in range(_STARTS - 1):
            with suppress(LauncherError):
                return Service(printed, self._lock, self._interrupts, self._orphans)
        return Service(printed, self._lock, self._interrupts, self._orphans)

    def _end(self) -> None:
        if self._service:
            self._service.close()
            self._service = None
        self._held.close()

    def _anew(self) -> int:
        """End everything that the launcher left, and start another; return how many processes were ended."""
        assert self._service
        ended = self._service.end_by_force()
        self._service = None
        self._held.close()
        self._begin()
        return ended

    @property
    def process_id(self) -> int:
        """The launcher's process."""
        assert self._service
        return self._service.process_id

    def kill_at_once(self) -> None:
        """End all trials without a further word; the caller leaves."""
        if self._service:
            self._service.kill_at_once()
        shutil.rmtree(self._scratch, ignore_errors=True)

    def run(self, command: ReadyCommand, watcher: Watches | None = None) -> TrialOutcome:
        """Run one trial to its end.

        Parameters
        ----------
        watcher : Watches, optional
            Is given the process before it becomes the program, and called until it ends. Then an interrupt ends the
            trial, which is returned, and is not raised.

        Raises
        ------
        LauncherError
            When another launcher was needed and could not be started.
        NoSpaceError
            When the disk of the scratch folder is full before the trial, or after one that failed.
        KeyboardInterrupt
            When the user asked to stop while the trial ran; leaving the context ends the trial.
        """
        require_space(self._scratch)
        if command.listens:
            self._removed(self.marks)
        if command.samples:
            self._removed(self._results)
        began = time.time(), time.monotonic()
        try:
            assert self._service
            self._service.ask(self._request(command, watcher is not None))
            account = _checked(self._watched(watcher, command) if watcher else self._service.answer(command.limit_s))
        except LauncherLostError as lost:
            reason = f"its launcher {lost} while it ran"
            ended = self._anew()
            return TrialOutcome(
                Status.INVALID, 0, *began, {}, excerpt=reason, left_behind=ended, disturbed=f"the launcher {lost}"
            )
        outcome = self._outcome(account, command)
        if damage := self._damage():
            self._anew()
            outcome = outcome.invalid(damage)
        elif account.get("limited"):
            self._anew()
            outcome = replace(outcome, disturbed="limits or the priority of the launcher were changed")
        if outcome.status is not Status.OK:
            require_space(self._scratch)
        return outcome

    def _request(self, command: ReadyCommand, hold: bool) -> dict[str, Any]:
        return {
            "path": command.path,
            "argv": list(command.argv),
            "folder": command.folder,
            "environment": {**command.environment, **self._channels(command)},
            "limit_s": command.limit_s,
            "output_bytes": command.output_bytes,
            "memory_bytes": command.memory_bytes,
            "stub": dict(command.stub),
            "marks": str(self.marks) if command.listens else "",
            "hold": hold,
            "ready": dict(command.ready),
            "input": command.input,
        }

    @staticmethod
    def _removed(path: Path) -> None:
        """Remove what lies at a path, whatever it is."""
        try:
            os.unlink(path)  # noqa: PTH108 - it is done between any two trials, and twice as quick
        except FileNotFoundError:
            pass
        except OSError:
            shutil.rmtree(path, ignore_errors=True)

    def _damage(self) -> str:
        """Return what a trial did to the scratch folder, as a clause about the trial; "" where it is as it was."""
        try:
            for path, ours in self._identities.items():
                there = os.lstat(path)
                if (there.st_dev, there.st_ino) != ours:
                    return "it put other files in the place of those that take its output"
        except OSError:
            return "it removed Bystander's scratch folder, or what is in it"
        try:
            names = os.listdir(self._told)  # noqa: PTH208 - as above
        except OSError:
            return "it removed the folder in which it could tell something"
        for name in names:  # what else it left there is its own affair; but it must not fill the disk
            if name not in _TOLD:
                self._removed(Path(self._told, name))
        return ""

    def _watched(self, watcher: Watches, command: ReadyCommand) -> dict[str, Any]:
        """Return the account of a trial that is watched while it runs."""
        assert self._service
        service = self._service
        answer = service.answer(_HOLD_S)
        if "held" not in answer:  # it could not be started
            return answer
        stopped, looked = self._interrupts, time.monotonic()
        try:
            watcher.attach(answer["held"])
            service.ask({"go": True})
            waited = [service.fd, *([] if stopped is None else [stopped]), *watcher.fds]
            stop = time.monotonic() + command.limit_s
            while True:
                ready = select.select(waited, [], [], watcher.wait_ms / 1e3)[0]  # poll(2) knows whole milliseconds only
                watcher.step()
                if service.fd in ready:
                    return service.answer(0)
                if stopped in ready and stopped is not None:
                    waited.remove(stopped)
                    service.ask({"stop": True})  # the word that ends it
                now = time.monotonic()
                if now - looked > _LOOK_S:
                    looked = now
                    service.works()
                    if now > stop:
                        return service.answer(0)
        finally:
            watcher.ended()

    def _channels(self, command: ReadyCommand) -> dict[str, str]:
        """Return the variables that name the files in which a trial can tell something."""
        sampled = {RESULTS: str(self._results)} if command.samples else {}
        return {**sampled, MARKS: str(self.marks)} if command.listens else sampled

    def _outcome(self, account: dict[str, Any], command: ReadyCommand) -> TrialOutcome:
        status, excerpt = _STATUS.get(account["status"], Status.INVALID), ""
        if status is Status.EXIT and command.exit_code_is_answer:
            status = Status.OK
        harness: dict[str, float] = {}
        samples: dict[str, tuple[float, ...]] = {}
        if command.samples and status is Status.OK:
            harness, samples, excerpt = self._sampled()
        if excerpt:
            status = Status.INVALID
        failed = status is not Status.OK
        return TrialOutcome(
            status=status,
            detail=account["detail"],
            started_wall_s=account["started_wall_ns"] / 1e9,
            started_monotonic_s=account["started_ns"] / 1e9,
            readings=account_readings(account),
            measures={name: told_measure(name) for name in (UNTIL_READY, UNTIL_OUTPUT) if f"{name}_ns" in account},
            answer="" if failed else f"exit {account['detail']}" if command.exit_code_is_answer else self._digest(),
            excerpt=excerpt or self._excerpt(account, command.secrets) if failed else "",
            left_behind=account.get("left_behind", 0),
            samples=samples,
            harness=harness,
            disturbed="the launcher was stopped for a while" if account.get("stopped") else "",
        )

    def _sampled(self) -> tuple[dict[str, float], dict[str, tuple[float, ...]], str]:
        """Return what the harness of a callable wrote down, with samples in seconds per iteration; and what is wrong.

        The callable shares the harness's process: what it says is believed as far as it is finite.
        """
        try:
            data = read_left(self._results, _MOST_RESULTS, "the file of its samples")
            results = json.loads(data or b"null")
            iterations = int(results["iterations"])
            harness = {name: float(results[name]) for name in ("iterations", "loop_ns", "clock_ns") if name in results}
            loop_ns = harness.get("loop_ns", 0.0)
            samples = {
                measure: tuple(max(0.0, float(ns) - loop_ns) / iterations / 1e9 for ns in results[f"{measure}_ns"])
                for measure in ("elapsed", "cpu")
                if f"{measure}_ns" in results
            }
            numbers = [*harness.values(), *(value for values in samples.values() for value in values)]
            if iterations < 1 or not all(map(math.isfinite, numbers)) or any(len(v) < 1 for v in samples.values()):
                raise ValueError("a number that is none")
        except LeftError as error:
            return {}, {}, str(error)
        except (ValueError, KeyError, TypeError, ZeroDivisionError, OverflowError, RecursionError):
            return {}, {}, "it ended without writing down its samples"
        return harness, samples, ""

    def _digest(self) -> str:
        with open(os.dup(self._printed[0]), "rb") as file:  # noqa: PTH123
            file.seek(0)
            return hashlib.file_digest(file, "sha256").hexdigest()[:24]

    def _excerpt(self, account: dict[str, Any], secrets: Sequence[str]) -> str:
        """Return the end of what a failed trial printed, without secrets: errors first, else its output."""
        if account["status"] == "not-started":
            return os.strerror(account["detail"])
        if account["status"] == "taken":
            return f"{account.get('said', '')} before it starts, which would show that it is ready"
        before = "it ended before it was ready" if account["status"] == "unready" else ""
        for fd in (self._printed[1], self._printed[0]):
            with suppress(OSError):
                text = said_of(fd, _EXCERPT_BYTES).decode("utf-8", "replace").strip()
                if text:
                    return masked(f"{before}\n{text}".strip(), secrets)
        return before


def _checked(account: dict[str, Any]) -> dict[str, Any]:
    try:
        return checked_account(account)
    except ValueError:
        raise LauncherLostError("said something that is no account") from None
