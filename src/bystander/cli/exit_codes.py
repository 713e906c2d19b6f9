"""Exit codes, all of them."""

from __future__ import annotations

from bystander.errors import BystanderError, UsageError

__all__ = ["DONE", "FAILED", "GATE", "INTERRUPTED", "USAGE", "code_for"]

DONE = 0
FAILED = 1
USAGE = 2
GATE = 3
INTERRUPTED = 130


def code_for(error: BystanderError) -> int:
    """Return the exit code of an error: 2 where the user can mend what was written, else 1."""
    return USAGE if isinstance(error, UsageError) else FAILED
