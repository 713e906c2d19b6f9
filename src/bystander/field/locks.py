"""One observation at a time: a lock per machine and user, which says who holds it."""

from __future__ import annotations

import fcntl
import json
import os
import time
from collections.abc import Callable
from pathlib import Path
from types import TracebackType

from bystander.errors import MachineBusyError
from bystander.units import duration_text

__all__ = ["MachineLock", "lock_path"]


def lock_path() -> Path:
    """Return the lock's file: BYSTANDER_LOCK, or one in the user's run folder, or in /tmp."""
    if given := os.environ.get("BYSTANDER_LOCK"):
        return Path(given)
    run = Path(f"/run/user/{os.getuid()}")
    return run / "bystander.lock" if os.access(run, os.W_OK) else Path(f"/tmp/bystander-{os.getuid()}.lock")


class MachineLock:
    """Held while an observation runs; the launcher holds it too, so that it outlives a killed Bystander.

    Parameters
    ----------
    what : str
        What the others are told.
    waiting : callable, optional
        Wait when it is held, and tell this once; otherwise that is an error.
    """

    def __init__(self, what: str, path: Path | None = None, waiting: Callable[[str], None] | None = None) -> None:
        self.what = what
        self.waiting = waiting
        self.path = path or lock_path()
        self.fd = -1

    def __enter__(self) -> MachineLock:
        flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | getattr(os, "O_NOFOLLOW", 0)
        try:
            self.fd = os.open(self.path, flags, 0o600)
        except OSError as error:
            raise MachineBusyError(f"the lock {self.path} cannot be opened: {error.strerror}") from error
        try:
            fcntl.flock(self.fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._busy()
        self._sign()
        return self

    def _sign(self) -> None:
        holder = {"process": os.getpid(), "since": time.time(), "what": self.what}
        os.ftruncate(self.fd, 0)
        os.pwrite(self.fd, json.dumps(holder).encode(), 0)

    def release(self) -> None:
        """Let go of it for a while; a launcher that holds it too lets go as well, as it holds the same file."""
        fcntl.flock(self.fd, fcntl.LOCK_UN)

    def taken_again(self) -> bool:
        """Take it again; return whether it was free."""
        try:
            fcntl.flock(self.fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return False
        self._sign()
        return True

    def _busy(self) -> None:
        """Wait for the lock, or say who holds it."""
        busy = f"another observation runs on this machine ({self._holder()})"
        if self.waiting is None:
            os.close(self.fd)
            raise MachineBusyError(f"{busy}; two at once would disturb each other; --wait waits for its end") from None
        self.waiting(f"{busy}; waiting for its end")
        try:
            fcntl.flock(self.fd, fcntl.LOCK_EX)
        except BaseException:  # an interrupt, or a signal that ends us
            os.close(self.fd)
            raise

    def _holder(self) -> str:
        try:
            holder = json.loads(os.pread(self.fd, 4096, 0))
            since = duration_text(max(0.0, time.time() - holder["since"]), 2)
            return f"{holder['what']}, process {holder['process']}, since {since}"
        except (ValueError, KeyError, TypeError, OSError):
            return "it does not say which"

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        os.close(self.fd)
