"""Bystander's end of the launcher: asks for one trial at a time and turns the account into readings."""

from __future__ import annotations

import hashlib
import json
import math
import os
import select
import subprocess
import sys
from collections.abc import Mapping
from contextlib import ExitStack, suppress
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol

from bystander.design import Status, TrialOutcome
from bystander.errors import LauncherError
from bystander.field.trials.commands import ReadyCommand
from bystander.field.trials.scratch import remove_leftovers, scratch_folder

__all__ = ["Launcher", "Watches"]

RESULTS, MARKS = "BYSTANDER_RESULTS", "BYSTANDER_MARKS"

_PROGRAM = Path(__file__).parents[1] / "inside" / "launcher.py"
_STATUS = {
    "ok": Status.OK,
    "exit": Status.EXIT,
    "signal": Status.SIGNAL,
    "cut": Status.CUT,
    "not-started": Status.NOT_STARTED,
    "flood": Status.FLOOD,
    "abort": Status.INVALID,  # it was watched, and somebody asked to stop
}
_EXCERPT_BYTES = 2000
_QUEUE_AGREEMENT = (0.02, 0.002)  # share and seconds within which both CPU times must agree


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
    """

    def __init__(self, lock: int | None = None, interrupts: int | None = None) -> None:
        self._lock = lock
        self._interrupts = interrupts
        self._stack = ExitStack()

    def __enter__(self) -> Launcher:
        with ExitStack() as stack:
            remove_leftovers()
            scratch = stack.enter_context(scratch_folder())
            self.output, self.errors, self.marks = (scratch / name for name in ("output", "errors", "marks"))
            self._results = scratch / "results"
            kept = () if self._lock is None else (self._lock,)
            self._process = subprocess.Popen(
                [sys.executable, "-I", "-S", str(_PROGRAM), *map(str, kept)],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, pass_fds=kept, cwd="/", start_new_session=True,
                bufsize=0,
            )  # fmt: skip
            stack.callback(self._end)
            self._pending = b""
            self.process_id = int(self._answer()["ready"])
            self._stack = stack.pop_all()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stack.close()

    def _end(self) -> None:
        """Close the control pipe, which makes the launcher end what runs; wait, and insist."""
        assert self._process.stdin
        assert self._process.stdout
        with suppress(OSError):
            self._process.stdin.close()
        try:
            self._process.wait(10)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._process.stdout.close()

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
            When the launcher went away.
        KeyboardInterrupt
            When the user asked to stop while the trial ran; leaving the context ends the trial.
        """
        request = {
            "path": command.path,
            "argv": list(command.argv),
            "folder": command.folder,
            "environment": {**command.environment, **self._channels(command)},
            "limit_s": command.limit_s,
            "output_bytes": command.output_bytes,
            "memory_bytes": command.memory_bytes,
            "stdout": str(self.output),
            "stderr": str(self.errors),
            "stub": dict(command.stub),
            "marks": str(self.marks) if command.listens else "",
            "hold": watcher is not None,
        }
        if command.samples:
            self._results.unlink(missing_ok=True)
        self.marks.unlink(missing_ok=True)
        self._ask(request)
        return self._outcome(self._watched(watcher) if watcher else self._answer(), command)

    def _ask(self, request: Mapping[str, Any]) -> None:
        assert self._process.stdin
        try:
            self._process.stdin.write(json.dumps(request).encode() + b"\n")
        except OSError as error:
            raise LauncherError(f"the launcher went away: {error.strerror}") from error

    def _watched(self, watcher: Watches) -> dict[str, Any]:
        """Return the account of a trial that is watched while it runs."""
        answer = self._answer()
        if "held" not in answer:  # it could not be started
            return answer
        assert self._process.stdout
        answers, stopped = self._process.stdout.fileno(), self._interrupts
        try:
            watcher.attach(answer["held"])
            self._ask({"go": True})
            waited = [answers, *([] if stopped is None else [stopped]), *watcher.fds]
            while True:
                ready = select.select(waited, [], [], watcher.wait_ms / 1e3)[0]  # poll(2) knows whole milliseconds only
                watcher.step()
                if answers in ready:
                    return self._answer()
                if stopped in ready and stopped is not None:
                    waited.remove(stopped)
                    self._ask({"stop": True})  # the word that ends it
        finally:
            watcher.ended()

    def _channels(self, command: ReadyCommand) -> dict[str, str]:
        """Return the variables that name the files in which a trial can tell something."""
        sampled = {RESULTS: str(self._results)} if command.samples else {}
        return {**sampled, MARKS: str(self.marks)} if command.listens else sampled

    def _answer(self) -> dict[str, Any]:
        assert self._process.stdout
        fd = self._process.stdout.fileno()
        while b"\n" not in self._pending:
            if self._interrupts is not None and fd not in select.select([fd, self._interrupts], [], [])[0]:
                raise KeyboardInterrupt
            data = os.read(fd, 1 << 16)
            if not data:
                raise LauncherError("the launcher went away in the middle of a trial")
            self._pending += data
        line, self._pending = self._pending.split(b"\n", 1)
        answer: dict[str, Any] = json.loads(line)
        return answer

    def _outcome(self, account: dict[str, Any], command: ReadyCommand) -> TrialOutcome:
        status = _STATUS.get(account["status"], Status.INVALID)
        if status is Status.EXIT and command.exit_code_is_answer:
            status = Status.OK
        harness, samples = self._sampled() if command.samples and status is Status.OK else ({}, {})
        if command.samples and status is Status.OK and not harness:
            status = Status.INVALID
        failed = status is not Status.OK
        answer = f"exit {account['detail']}" if command.exit_code_is_answer else self._digest()
        return TrialOutcome(
            status=status,
            detail=account["detail"],
            started_wall_s=account["started_wall_ns"] / 1e9,
            started_monotonic_s=account["started_ns"] / 1e9,
            readings=_readings(account),
            answer="" if failed else answer,
            excerpt=self._excerpt(account) if failed else "",
            left_behind=account.get("left_behind", 0),
            samples=samples,
            harness=harness,
        )

    def _sampled(self) -> tuple[dict[str, float], dict[str, tuple[float, ...]]]:
        """Return what the harness of a callable wrote down, with samples in seconds per iteration."""
        try:
            results = json.loads(self._results.read_text(encoding="utf-8"))
            iterations = int(results["iterations"])
            harness = {name: float(results[name]) for name in ("iterations", "loop_ns", "clock_ns") if name in results}
            loop_ns = harness.get("loop_ns", 0.0)
            samples = {
                measure: tuple(max(0.0, value - loop_ns) / iterations / 1e9 for value in results[f"{measure}_ns"])
                for measure in ("elapsed", "cpu")
                if f"{measure}_ns" in results
            }
        except (OSError, ValueError, KeyError, TypeError, ZeroDivisionError):
            return {}, {}
        return harness, samples

    def _digest(self) -> str:
        with self.output.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()[:24]

    def _excerpt(self, account: dict[str, Any]) -> str:
        """Return the end of what a failed trial printed: errors first, else its output."""
        if account["status"] == "not-started":
            return os.strerror(account["detail"])
        for path in (self.errors, self.output):
            with suppress(OSError), path.open("rb") as file:
                file.seek(max(0, path.stat().st_size - _EXCERPT_BYTES))
                text = file.read(_EXCERPT_BYTES).decode("utf-8", "replace").strip()
                if text:
                    return text
        return ""


def _readings(account: dict[str, Any]) -> dict[str, float]:
    """Return the readings of an account in SI units; nothing was read of a trial that never started."""
    if "elapsed_ns" not in account:
        return {}
    elapsed = account["elapsed_ns"] / 1e9
    cpu = account["user_s"] + account["system_s"]
    delay = _run_queue_delay(account, cpu)
    return {
        "elapsed": elapsed,
        "unqueued": elapsed - delay if delay < elapsed else math.nan,
        "cpu": cpu,
        "user_cpu": account["user_s"],
        "system_cpu": account["system_s"],
        "waiting": max(0.0, elapsed - cpu),
        "run_queue_delay": delay,
        "peak_memory": float(account["peak_bytes"]),
        "peak_memory_floor": float(account["floor_bytes"]) if account["floor_bytes"] > 0 else math.nan,
        "minor_faults": float(account["minor_faults"]),
        "major_faults": float(account["major_faults"]),
        "voluntary_switches": float(account["voluntary_switches"]),
        "involuntary_switches": float(account["involuntary_switches"]),
    }


def _run_queue_delay(account: dict[str, Any], cpu: float) -> float:
    """Return the delay in seconds, NaN unless one thread of one process did all the work.

    The kernel keeps it per thread; only where that thread's CPU time is the whole trial's does it
    speak of the whole trial.
    """
    on_cpu = account["on_cpu_ns"] / 1e9
    share, seconds = _QUEUE_AGREEMENT
    if on_cpu < 0 or abs(on_cpu - cpu) > max(share * cpu, seconds):
        return math.nan
    return float(account["run_queue_ns"]) / 1e9
